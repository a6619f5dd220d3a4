"""Where the application keeps things and how it is reached, from the environment, once."""

from __future__ import annotations

import os
import secrets
from dataclasses import dataclass
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[2]


@dataclass(frozen=True)
class Settings:
    """`data` holds media and arrays; `media` is the folder whose files may be used without copying."""

    data: Path
    database_url: str
    media: Path | None
    host: str = "127.0.0.1"
    port: int = 8460

    @staticmethod
    def from_environment() -> Settings:
        """KEEN_HORIZON_DATA, _DATABASE_URL, _MEDIA, _HOST and _PORT."""
        media = os.environ.get("KEEN_HORIZON_MEDIA")
        return Settings(
            data=Path(os.environ.get("KEEN_HORIZON_DATA", PROJECT / "var")).resolve(),
            database_url=os.environ.get("KEEN_HORIZON_DATABASE_URL", ""),
            media=Path(media).resolve() if media else None,
            host=os.environ.get("KEEN_HORIZON_HOST", "127.0.0.1"),
            port=int(os.environ.get("KEEN_HORIZON_PORT", "8460")),
        )

    def secret_key(self) -> str:
        """The key that signs session cookies, made on first use and kept beside the data."""
        self.data.mkdir(parents=True, exist_ok=True)
        path = self.data / "secret.key"
        if not path.exists():
            path.touch(mode=0o600)
            path.write_text(secrets.token_hex(32))
        return path.read_text()
