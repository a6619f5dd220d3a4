"""Where the application keeps things and how it is reached, from the environment, once."""

from __future__ import annotations

import ipaddress
import os
import secrets
from dataclasses import dataclass
from pathlib import Path

PROJECT = Path(__file__).resolve().parents[2]
LOOPBACK_NAMES = ("localhost", "127.0.0.1")


@dataclass(frozen=True)
class Settings:
    """`data` holds media and arrays; `media` is the folder whose files may be used without copying.

    `hosts` are names under which browsers reach the application besides those of loopback and `host`; `proxy` is the
    address of a proxy that is believed when it says that a request came over TLS. `demo` says whether a place without
    any project gets the demo's.
    """

    data: Path
    database_url: str
    media: Path | None
    host: str = "127.0.0.1"
    port: int = 8460
    hosts: tuple[str, ...] = ()
    proxy: str | None = None
    demo: bool = True

    @staticmethod
    def from_environment() -> Settings:
        """KEEN_HORIZON_DATA, _DATABASE_URL, _MEDIA, _HOST, _PORT, _HOSTS (by commas), _PROXY, and _DEMO (yes, no)."""
        media = os.environ.get("KEEN_HORIZON_MEDIA")
        return Settings(
            data=Path(os.environ.get("KEEN_HORIZON_DATA") or PROJECT / "var").resolve(),
            database_url=os.environ.get("KEEN_HORIZON_DATABASE_URL", ""),
            media=Path(media).resolve() if media else None,
            host=os.environ.get("KEEN_HORIZON_HOST", "127.0.0.1"),
            port=int(os.environ.get("KEEN_HORIZON_PORT", "8460")),
            hosts=tuple(name.strip() for name in os.environ.get("KEEN_HORIZON_HOSTS", "").split(",") if name.strip()),
            proxy=os.environ.get("KEEN_HORIZON_PROXY") or None,
            demo=os.environ.get("KEEN_HORIZON_DEMO", "yes") != "no",
        )

    @property
    def shared(self) -> bool:
        """Whether others than this machine may reach the application, so that people sign in."""
        return not is_loopback(self.host)

    def trusted_hosts(self) -> list[str]:
        """Names that a request may be addressed to; any other would let a foreign page read answers."""
        own = [] if self.host in ("0.0.0.0", "::") else [self.host]
        return [*LOOPBACK_NAMES, *own, *self.hosts]

    def secret_key(self) -> str:
        """The key that signs session cookies, made on first use and kept beside the data."""
        self.data.mkdir(parents=True, exist_ok=True)
        path = self.data / "secret.key"
        if not path.exists():
            path.touch(mode=0o600)
            path.write_text(secrets.token_hex(32))
        return path.read_text()


def is_loopback(host: str | None) -> bool:
    """Whether an address or name is this machine's own."""
    if host in LOOPBACK_NAMES:
        return True
    try:
        return ipaddress.ip_address(host or "").is_loopback
    except ValueError:
        return False
