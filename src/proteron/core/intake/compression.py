"""gzip, zip and zstandard around a file, unpacked to disk under a limit."""

import tempfile
import zipfile
import zlib
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import IO, Any

import pyarrow as pa

from proteron.core.errors import InputError, LimitError
from proteron.core.intake.limits import Limits, Source

_STREAMS = {b"\x1f\x8b": "gzip", b"\x28\xb5\x2f\xfd": "zstd"}
_PIECE = 1 << 20
_SUSPICIOUS = 64 * 2**20  # from this size on, what unpacks to more than 400 times its size is refused
_RATIO = 400
_BROKEN = (
    OSError,
    zlib.error,
    pa.ArrowInvalid,
    zipfile.BadZipFile,
    EOFError,
    NotImplementedError,
    RuntimeError,
    ValueError,
)


@contextmanager
def unpacked(source: Source, limits: Limits, member: str | None = None) -> Iterator[tuple[Source, dict[str, Any]]]:
    """The file inside, with facts on how it was packed; workbooks, which are zip files too, stay as they are.

    Raises `InputError` for a broken archive or several members of which none was chosen, `LimitError` for
    one that unpacks beyond the limits.
    """
    limits.check_bytes(source.size)
    head = source.head(4)
    packed = next((name for magic, name in _STREAMS.items() if head.startswith(magic)), None)
    if packed is None and head.startswith(b"PK\x03\x04"):
        packed = None if is_workbook(source, limits) else "zip"
    if packed is None:
        yield source, {}
        return
    with tempfile.TemporaryDirectory(prefix="proteron-") as folder:
        path = Path(folder) / "unpacked"
        try:
            name = _unpack(source, packed, path, limits, member)
        except _BROKEN as error:
            raise InputError(
                f"The {packed} file is broken: {str(error)[:120] or 'it ends early'}.", field="file"
            ) from error
        yield Source(name, path), {"packed": packed, "member": name}


def _open(source: Source) -> Any:
    return pa.BufferReader(source.content) if isinstance(source.content, bytes) else source.content.open("rb")


def _unpack(source: Source, packed: str, path: Path, limits: Limits, member: str | None) -> str:
    with _open(source) as raw:
        if packed != "zip":
            with pa.input_stream(raw, compression=packed) as stream, path.open("wb") as out:
                _copy(stream, out, source.size, limits)
            return source.name.removesuffix(".gz").removesuffix(".zst").removesuffix(".zstd")
        with zipfile.ZipFile(raw) as archive:
            name = _member(archive, member)
            with archive.open(name) as stream, path.open("wb") as out:
                _copy(stream, out, source.size, limits)
        return Path(name).name


def _member(archive: zipfile.ZipFile, member: str | None) -> str:
    names = [i.filename for i in archive.infolist() if not i.is_dir() and not i.filename.startswith("__MACOSX/")]
    if member in names:
        return str(member)
    if member is not None or len(names) != 1:
        listed = ", ".join(names[:10]) or "none"
        raise InputError(f"The zip file holds {len(names)} files; choose one of: {listed}.", field="member")
    return names[0]


def _copy(stream: Any, out: IO[bytes], packed_size: int, limits: Limits) -> None:
    size = 0
    while piece := stream.read(_PIECE):
        size += len(piece)
        check_unpacked(size, packed_size, limits)
        out.write(piece)


def check_unpacked(size: int, packed_size: int, limits: Limits) -> None:
    """Raise `LimitError` for what grows beyond the limit or out of all proportion."""
    if size > limits.unpacked:
        raise LimitError(f"The file unpacks to more than the limit of {limits.unpacked:,} bytes.", field="file")
    if size > _SUSPICIOUS and size > _RATIO * packed_size:
        raise LimitError(f"The file unpacks to more than {_RATIO} times its size; the limit is that.", field="file")


def is_workbook(source: Source, limits: Limits) -> bool:
    """Whether a zip file is an XLSX or ODS workbook; its parts are unpacked once, to nowhere, under the limits."""
    try:
        with _open(source) as raw, zipfile.ZipFile(raw) as archive:
            names = set(archive.namelist())
            if not ({"xl/workbook.xml", "content.xml"} & names):
                return False
            total = 0
            for entry in archive.infolist():
                with archive.open(entry) as stream:
                    while piece := stream.read(_PIECE):
                        total += len(piece)
                        check_unpacked(total, source.size, limits)
            return True
    except _BROKEN as error:
        raise InputError(f"The zip file is broken: {str(error)[:120]}.", field="file") from error
