"""Outlooks: ordered here, made by the runner, read, turned, handed over, and held to."""
