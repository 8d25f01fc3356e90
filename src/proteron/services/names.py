"""Names of files that are taken away."""

import re


def file_name(name: str) -> str:
    """A name without anything a file system minds."""
    return re.sub(r"[^A-Za-z0-9_-]+", "-", name).strip("-").lower() or "dataset"
