"""The runner: experiments cut into cells, queued durably, computed over processes."""
