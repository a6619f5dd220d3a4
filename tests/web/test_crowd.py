"""Many connections at once: bench pages, slow readers, half-sent requests. Times are benchmarks/crowd.py's."""

from __future__ import annotations

from pathlib import Path

from asking import Client, bring_in
from crowd import MOST_CONNECTIONS, Crowd, database_connections, told
from services import serving, throw_away_cluster, working

from keen_horizon.config import Settings


def test_everybody_is_told_and_the_database_sees_few(tmp_path: Path) -> None:
    """With a database of their own: what earlier tests left open does not count."""
    with throw_away_cluster() as cluster:
        settings = Settings(tmp_path / "data", cluster.url, None)
        _crowded(settings, tmp_path)


def _crowded(settings: Settings, tmp_path: Path) -> None:
    with serving(settings) as address, working(settings):
        client = Client(address)
        clip = bring_in(client, tmp_path)
        with Crowd(address) as crowd:
            crowd.benches(200)
            crowd.readers(clip, 20)
            crowd.senders(30)
            client.told("POST", f"/api/clips/{clip}/renders", {})
            assert told(crowd.streams, b'"kind": "render"', 30) == 200
            assert database_connections(settings.database_url) <= MOST_CONNECTIONS
            assert client.told("GET", "/api/works")["works"]


def test_pages_beyond_the_streams_ask_for_themselves(settings: Settings, tmp_path: Path) -> None:
    from keen_horizon.web.api.events import MOST_STREAMS

    with serving(settings) as address, Crowd(address) as crowd:
        crowd.benches(MOST_STREAMS)
        assert told(crowd.streams, b"retry: 2000", 30) == MOST_STREAMS
        status, answer = Client(address).ask("GET", "/api/events", None)
        assert status == 503
        assert "asks for news" in answer.decode()
