"""Files of one JSON document and named arrays in an NPZ archive: nothing in them runs when they are read."""

import io
import json
from collections.abc import Callable, Mapping
from pathlib import Path
from typing import Any, TypeVar
from zipfile import BadZipFile

import numpy as np
from numpy.typing import NDArray

from proteron.core.errors import InputError, ProteronError

Found = TypeVar("Found")


def archive_bytes(text: str, arrays: Mapping[str, NDArray[Any]]) -> bytes:
    """The file of a document, as JSON text, and arrays."""
    out = io.BytesIO()
    document = np.frombuffer(text.encode(), dtype=np.uint8)
    np.savez_compressed(out, allow_pickle=False, document=document, **arrays)
    return out.getvalue()


def read_archive(
    file: Path | str | bytes, what: str, schema: int, build: Callable[[dict[str, Any], dict[str, NDArray[Any]]], Found]
) -> Found:
    """What `build` makes of the document and arrays of a file, by its path or its bytes; raises `InputError` for a file
    that is no `what`, or one of another version."""
    source, name = (io.BytesIO(file), "It") if isinstance(file, bytes) else (Path(file), str(file))
    try:
        with np.load(source, allow_pickle=False) as archive:
            arrays = {name: archive[name] for name in archive.files}
        document = json.loads(arrays.pop("document").tobytes().decode())
        if document["schema_version"] != schema:
            raise InputError(f"A {what} has “schema_version”: {schema}.", field="file")
        return build(document, arrays)
    except ProteronError:
        raise
    except OSError as error:
        raise InputError(f"{name} cannot be read: {error.strerror or error}.", field="file") from error
    except (KeyError, ValueError, TypeError, AttributeError, BadZipFile, UnicodeDecodeError) as error:
        raise InputError(f"{name} is no {what}: {type(error).__name__} at {error}.", field="file") from error
