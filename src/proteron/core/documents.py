"""Canonical JSON documents and their hashes; the base of every settings model."""

import hashlib
import json
from typing import Any, ClassVar, Self

from pydantic import BaseModel, ConfigDict, ValidationError, model_validator

from proteron.core.errors import SettingsError

SCHEMA_VERSION = 1


def canonical_json(document: Any) -> str:
    """Sorted keys, no spaces, shortest round-trip numbers: equal content gives equal text."""
    return json.dumps(document, sort_keys=True, separators=(",", ":"), ensure_ascii=False)


def content_hash(document: Any) -> str:
    """SHA-256 (hex) of the canonical JSON of `document`."""
    return hashlib.sha256(canonical_json(document).encode()).hexdigest()


class Settings(BaseModel):
    """A frozen description of an algorithm's settings: validator, schema, form and documentation."""

    model_config = ConfigDict(frozen=True, extra="forbid", validate_default=False)

    def document(self) -> dict[str, Any]:
        """The settings as plain JSON data, defaults included."""
        return self.model_dump(mode="json")

    @property
    def hash(self) -> str:
        """SHA-256 over the canonical document."""
        return content_hash(self.document())

    @classmethod
    def parse(cls, document: Any) -> Self:
        """Validate plain data; raises `SettingsError` that names the field."""
        try:
            return cls.model_validate(document)
        except ValidationError as error:
            raise settings_error(error) from error


class Versioned(Settings):
    """Settings of an algorithm; documents may name its version, and are refused where that is another one."""

    version: ClassVar[int] = 1

    @model_validator(mode="before")
    @classmethod
    def _of_this_version(cls, given: Any) -> Any:
        if not isinstance(given, dict) or "version" not in given:
            return given
        if given["version"] != cls.version:
            raise ValueError(f"made by version {given['version']} of this method; here it is version {cls.version}")
        return {name: value for name, value in given.items() if name != "version"}


def settings_error(error: ValidationError) -> SettingsError:
    """Turn pydantic's first complaint into a sentence with the field's path."""
    first = error.errors()[0]
    field = ".".join(str(part) for part in first["loc"]) or "settings"
    return SettingsError(f"{field}: {first['msg']}.", field=field)


_WHOLE_WORDS = {"add": "additive", "added": "additive", "mul": "multiplicative", "multiplied": "multiplicative"}


def whole_word(given: Any) -> Any:
    """The short words of older files as those that are used now; anything else as it is."""
    return _WHOLE_WORDS.get(given, given) if isinstance(given, str) else given
