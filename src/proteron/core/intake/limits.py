"""What an import may cost, and where its bytes come from."""

from dataclasses import dataclass
from pathlib import Path

from proteron.core.errors import InputError, LimitError


@dataclass(frozen=True)
class Limits:
    """Sizes beyond which an import is refused; `bytes` also bounds what a compressed file unpacks to, times 8."""

    bytes: int = 512 * 2**20
    rows: int = 20_000_000
    columns: int = 2_000

    @property
    def unpacked(self) -> int:
        return self.bytes * 8

    def check_bytes(self, size: int) -> None:
        if size > self.bytes:
            raise LimitError(f"The file has {size:,} bytes; the limit is {self.bytes:,}.", field="file")

    def check_table(self, rows: int, columns: int) -> None:
        if columns > self.columns:
            raise LimitError(f"The file has {columns:,} columns; the limit is {self.columns:,}.", field="file")
        if rows > self.rows:
            raise LimitError(f"The file has {rows:,} rows; the limit is {self.rows:,}.", field="file")


@dataclass(frozen=True)
class Source:
    """A named file on disk or bytes in memory."""

    name: str
    content: bytes | Path

    @classmethod
    def of(cls, given: "Source | str | Path | bytes") -> "Source":
        """Raises `InputError` when there is no such file."""
        if isinstance(given, Source):
            return given
        if isinstance(given, bytes):
            return cls("data", given)
        path = Path(given)
        if not path.is_file():
            raise InputError(f"{path.name} cannot be read: there is no such file.", field="file")
        return cls(path.name, path)

    @property
    def size(self) -> int:
        return len(self.content) if isinstance(self.content, bytes) else self.content.stat().st_size

    def head(self, size: int) -> bytes:
        if isinstance(self.content, bytes):
            return self.content[:size]
        with self.content.open("rb") as file:
            return file.read(size)

    def tail(self, size: int) -> bytes:
        if isinstance(self.content, bytes):
            return self.content[-size:]
        with self.content.open("rb") as file:
            file.seek(max(0, self.size - size))
            return file.read(size)
