"""How the running application answers while many others are connected.

    .venv/bin/python benchmarks/crowd.py [--benches 200] [--readers 20] [--senders 30]

As many open benches (streams of events), proxies read slowly and requests of which half was sent, all at once on
loopback; meanwhile a page is asked for twenty times. Bounded in count and time. Says the slowest answer, the most
connections that the database had, and whether an announcement reached every stream.
"""

from __future__ import annotations

import argparse
import socket
import sys
import tempfile
import time
from contextlib import ExitStack
from pathlib import Path
from urllib.request import urlopen

HERE = Path(__file__).resolve().parent
sys.path.append(str(HERE.parent / "tests"))

import psycopg
from asking import Client, bring_in
from services import serving, throw_away_cluster, working

from keen_horizon.config import Settings

ASKED = 20
LONGEST_S = 1.0
MOST_CONNECTIONS = 20


class Crowd:
    """Connections that are held open; closed together."""

    def __init__(self, address: str) -> None:
        self._address = address.removeprefix("http://")
        self._held = ExitStack()
        self.streams: list[socket.socket] = []

    def __enter__(self) -> Crowd:
        return self

    def __exit__(self, *_: object) -> None:
        self._held.close()

    def benches(self, count: int) -> None:
        """Streams of events, as open pages hold them."""
        self.streams += [self._opened("GET /api/events HTTP/1.1") for _ in range(count)]

    def readers(self, clip: int, count: int) -> None:
        """Proxies of which a little is read."""
        for _ in range(count):
            self._opened(f"GET /media/clips/{clip}/proxy.mp4 HTTP/1.1", "Range: bytes=0-", small=True).recv(100)

    def senders(self, count: int) -> None:
        """Requests of which half was sent: of the head, or of a piece of an upload."""
        for number in range(count):
            if number % 2:
                piece = self._opened("PUT /api/uploads/1/0 HTTP/1.1", f"Content-Length: {8 << 20}")
                piece.sendall(bytes(4 << 20))
            else:
                self._opened("GET /about HTTP/1.1", "X-Half: x", end="")

    def _opened(self, *lines: str, end: str = "\r\n\r\n", small: bool = False) -> socket.socket:
        """A connection that has sent the lines of a head."""
        host, _, port = self._address.partition(":")
        connection = self._held.enter_context(socket.socket())
        if small:
            connection.setsockopt(socket.SOL_SOCKET, socket.SO_RCVBUF, 4096)
        connection.settimeout(10)
        connection.connect((host, int(port)))
        first, *more = lines
        connection.sendall("\r\n".join([first, f"Host: {self._address}", *more]).encode() + end.encode())
        return connection


def told(streams: list[socket.socket], text: bytes, seconds: float = 10) -> int:
    """How many of the streams bring a text within some seconds."""
    found = 0
    end = time.monotonic() + seconds
    for stream in streams:
        seen = b""
        stream.settimeout(0.5)
        while text not in seen and time.monotonic() < end:
            try:
                seen += stream.recv(65536)
            except TimeoutError:
                continue
        found += text in seen
    return found


def main() -> int:
    """Measure; 0 where every bar is met."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    for name, usual in (("benches", 200), ("readers", 20), ("senders", 30)):
        parser.add_argument(f"--{name}", type=int, default=usual)
    options = parser.parse_args()
    with tempfile.TemporaryDirectory() as base, throw_away_cluster() as cluster:
        settings = Settings(Path(base) / "data", cluster.url, None)
        with serving(settings) as address, working(settings):
            client = Client(address)
            clip = bring_in(client, Path(base), noise=40)
            before = answer_times(address, clip)
            with Crowd(address) as crowd:
                crowd.benches(options.benches)
                crowd.readers(clip, options.readers)
                crowd.senders(options.senders)
                time.sleep(2)
                among = answer_times(address, clip)
                connections = database_connections(cluster.url)
                client.told("POST", f"/api/clips/{clip}/renders", {})
                reached = told(crowd.streams, b'"kind": "render"')
    print(f"a page alone: {1000 * max(before):.0f} ms at most of {ASKED}; in the crowd: {1000 * max(among):.0f} ms")
    print(f"database connections: {connections}; streams that were told of a job: {reached} of {options.benches}")
    return int(max(among) >= LONGEST_S or connections > MOST_CONNECTIONS or reached < options.benches)


def answer_times(address: str, clip: int) -> list[float]:
    """Seconds that the bench's page took, each of ASKED times."""
    times = []
    for _ in range(ASKED):
        began = time.monotonic()
        with urlopen(f"{address}/clips/{clip}", timeout=30) as page:
            page.read()
        times.append(time.monotonic() - began)
    return times


def database_connections(url: str) -> int:
    """Connections of the application to its database, without this one."""
    with psycopg.connect(url) as connection:
        row = connection.execute(
            "SELECT count(*) FROM pg_stat_activity WHERE datname = current_database() AND pid <> pg_backend_pid()"
        ).fetchone()
    return int(row[0]) if row else 0


if __name__ == "__main__":
    sys.exit(main())
