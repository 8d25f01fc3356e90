"""What the environment says: every name starts with PROTERON_."""

import os
from functools import lru_cache
from pathlib import Path

from pydantic import Field
from pydantic_settings import BaseSettings, SettingsConfigDict


class Configuration(BaseSettings):
    """Where things live and what they may cost."""

    model_config = SettingsConfigDict(env_prefix="PROTERON_")

    home: Path = Field(default_factory=lambda: Path.home() / ".proteron")
    host: str = "127.0.0.1"
    port: int = Field(8765, ge=1, le=65535)
    database_url: str | None = None
    workers: int = Field(default_factory=lambda: max(1, min(os.cpu_count() or 1, 8)), ge=1)
    upload_bytes: int = 512 * 2**20
    upload_rows: int = 20_000_000
    cell_seconds: float = 900.0
    cell_bytes: int = 4 * 2**30
    intake_bytes: int = 6 * 2**30
    look_seconds: float = 30.0
    streams: int = 40

    @property
    def connections(self) -> Path:
        """The file that names SQL and HTTP sources."""
        return self.home / "connections.toml"


@lru_cache(maxsize=1)
def configuration() -> Configuration:
    return Configuration()
