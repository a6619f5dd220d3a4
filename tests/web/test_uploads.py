"""Files on their way in: one writer, nothing kept that is not what was sent."""

from __future__ import annotations

import errno
import hashlib
import json
import os
import random
import socket
import threading
from base64 import b64encode
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pytest
from applications import Browser
from asking import Client
from services import serving

from keen_horizon.config import Settings
from keen_horizon.operations import uploads
from keen_horizon.store.models import UploadPiece

CONTENT = random.Random(4).randbytes(300_000)
DIGEST = hashlib.sha256(CONTENT).hexdigest()


def begun(browser: Browser, project: int, **more: object) -> int:
    wanted = {"name": "quay.mp4", "size": len(CONTENT), **more}
    return browser.ask("POST", f"/api/projects/{project}/uploads", json=wanted)["id"]


def stored(browser: Browser) -> bytes:
    return browser.services.files.path(f"{DIGEST}.mp4").read_bytes()


def digest_header(piece: bytes) -> dict[str, str]:
    return {"Content-Digest": f"sha-256=:{b64encode(hashlib.sha256(piece).digest()).decode()}:"}


def test_two_senders_of_one_file_make_one_whole_file(browser: Browser, project: int) -> None:
    """Both send every piece, at the same time; each goes on where the server says."""
    number = begun(browser, project)
    app = browser.client.application
    made: list[int] = []

    def send(_: int) -> None:
        client, at = app.test_client(), 0
        client.set_cookie("session", browser.client.get_cookie("session").value)
        while True:
            answer = client.put(
                f"/api/uploads/{number}/{at}", data=CONTENT[at : at + 7000], headers={"X-CSRFToken": browser.token}
            )
            assert answer.status_code in (200, 409), answer.text
            if answer.json.get("clip"):
                made.append(answer.json["clip"])
                return
            at = answer.json["received"]

    with ThreadPoolExecutor(2) as pool:
        list(pool.map(send, range(2)))
    assert made == made[:1] * 2
    assert len(browser.ask("GET", f"/api/projects/{project}/clips")) == 1
    assert stored(browser) == CONTENT


def test_a_stalled_piece_does_not_reach_the_finished_file(settings: Settings, tmp_path: Path) -> None:
    """Over real connections: half of the last piece, then all of it by another connection, then the rest."""
    with serving(settings) as address:
        client = Client(address)
        project = client.told("POST", "/api/projects", {"name": "Harbour film"})["id"]
        wanted = {"name": "quay.mp4", "size": len(CONTENT)}
        number = client.told("POST", f"/api/projects/{project}/uploads", wanted)["id"]
        host, _, port = address.removeprefix("http://").partition(":")
        with socket.create_connection((host, int(port)), timeout=20) as stalled:
            junk = b"\xff" * len(CONTENT)
            head = f"PUT /api/uploads/{number}/0 HTTP/1.1\r\nHost: {host}\r\nContent-Length: {len(junk)}\r\n"
            cookie = f"Cookie: {client._cookie}\r\nX-CSRFToken: {client._token}\r\n\r\n"
            stalled.sendall(head.encode() + cookie.encode() + junk[:100_000])
            status, answer = client.ask("PUT", f"/api/uploads/{number}/0", CONTENT, "application/octet-stream")
            assert status == 200, answer
            assert json.loads(answer)["clip"]
            stalled.sendall(junk[100_000:])
            assert b" 409 " in stalled.recv(1000).split(b"\r\n")[0]
    assert (settings.data / "files" / DIGEST[:2] / f"{DIGEST}.mp4").read_bytes() == CONTENT


def test_a_piece_damaged_on_its_way_is_refused(browser: Browser, project: int) -> None:
    number = begun(browser, project)
    address, token = f"/api/uploads/{number}/0", {"X-CSRFToken": browser.token}
    bad = browser.client.put(address, data=CONTENT[:1000], headers=token | digest_header(CONTENT[1:1001]))
    assert (bad.status_code, bad.json["received"]) == (409, 0)
    assert "damaged on its way" in bad.json["error"]
    odd = browser.client.put(address, data=CONTENT[:1000], headers=token | {"Content-Digest": "sha-256=:a:"})
    assert odd.status_code == 400
    good = browser.client.put(address, data=CONTENT, headers=token | digest_header(CONTENT))
    assert good.json["clip"]
    assert stored(browser) == CONTENT


def test_what_the_disk_changed_is_sent_again(browser: Browser, project: int) -> None:
    number = begun(browser, project)
    browser.ask("PUT", f"/api/uploads/{number}/0", data=CONTENT[:100_000])
    browser.ask("PUT", f"/api/uploads/{number}/100000", data=CONTENT[100_000:200_000])
    with browser.services.files.work_path(f"upload-{number}.part").open("r+b") as file:
        file.seek(150_000)
        file.write(b"rot")
    refused = browser.ask("PUT", f"/api/uploads/{number}/200000", 409, data=CONTENT[200_000:])
    assert refused["received"] == 100_000
    assert browser.ask("PUT", f"/api/uploads/{number}/100000", data=CONTENT[100_000:])["clip"]
    assert stored(browser) == CONTENT
    with browser.services.session() as session:
        assert session.query(UploadPiece).count() == 0


def test_a_file_that_is_not_what_its_sender_announced_is_not_kept(browser: Browser, project: int) -> None:
    number = begun(browser, project, digest="0" * 64)
    refused = browser.ask("PUT", f"/api/uploads/{number}/0", 409, data=CONTENT)
    assert refused["received"] == 0
    assert browser.ask("GET", f"/api/projects/{project}/clips") == []
    assert begun(browser, project, digest=DIGEST) == number
    assert browser.ask("PUT", f"/api/uploads/{number}/0", data=CONTENT)["clip"]


def test_bytes_that_the_disk_lost_are_not_counted(browser: Browser, project: int) -> None:
    number = begun(browser, project)
    browser.ask("PUT", f"/api/uploads/{number}/0", data=CONTENT[:100_000])
    os.truncate(browser.services.files.work_path(f"upload-{number}.part"), 10)
    again = browser.ask("POST", f"/api/projects/{project}/uploads", json={"name": "quay.mp4", "size": len(CONTENT)})
    assert again == {"id": number, "received": 0, "clip": None}


def test_whoever_sends_the_same_again_is_told_that_it_is_there(browser: Browser, project: int) -> None:
    """As when the last answer was lost on its way; once the clip was removed, the file comes in anew."""
    number = begun(browser, project)
    clip = browser.ask("PUT", f"/api/uploads/{number}/0", data=CONTENT)["clip"]
    wanted = {"name": "quay.mp4", "size": len(CONTENT)}
    again = browser.ask("POST", f"/api/projects/{project}/uploads", json=wanted)
    assert again == {"id": number, "received": len(CONTENT), "clip": clip}
    browser.ask("DELETE", f"/api/clips/{clip}")
    anew = browser.ask("POST", f"/api/projects/{project}/uploads", json=wanted)
    assert anew == {"id": number, "received": 0, "clip": None}
    assert browser.ask("PUT", f"/api/uploads/{number}/0", data=CONTENT)["clip"] != clip


def test_more_than_was_announced_is_refused(browser: Browser, project: int) -> None:
    number = begun(browser, project)
    assert "announced" in browser.ask("PUT", f"/api/uploads/{number}/0", 400, data=CONTENT + b"x")["error"]


def test_the_last_piece_by_two_windows_is_finished_once(
    browser: Browser, project: int, monkeypatch: pytest.MonkeyPatch
) -> None:
    number, reading, go_on = begun(browser, project), threading.Event(), threading.Event()
    read_back = uploads._read_back

    def slowly(file: int, pieces: list) -> tuple[str, int]:
        reading.set()
        assert go_on.wait(20)
        return read_back(file, pieces)

    monkeypatch.setattr(uploads, "_read_back", slowly)
    services = browser.services
    with ThreadPoolExecutor(1) as pool:
        first = pool.submit(uploads.receive, services.session, services.files, number, 0, CONTENT)
        assert reading.wait(20)
        with pytest.raises(uploads.PieceRefused, match="another window"):
            uploads.receive(services.session, services.files, number, len(CONTENT), b"")
        go_on.set()
        assert first.result() == (len(CONTENT), browser.ask("GET", f"/api/projects/{project}/clips")[0]["id"])


def test_a_full_disk_says_so(browser: Browser, project: int, monkeypatch: pytest.MonkeyPatch) -> None:
    number = begun(browser, project)

    def full(*_: object) -> int:
        raise OSError(errno.ENOSPC, "No space left on device")

    monkeypatch.setattr(os, "pwrite", full)
    answer = browser.ask("PUT", f"/api/uploads/{number}/0", 507, data=CONTENT)
    assert "The disk is full" in answer["error"]
    monkeypatch.undo()
    assert browser.ask("PUT", f"/api/uploads/{number}/0", data=CONTENT)["clip"]


def test_a_full_database_disk_says_so(browser: Browser, project: int) -> None:
    """PostgreSQL itself raises it, from a trigger, as it does where it cannot write."""
    with browser.services.session() as session:
        session.connection().exec_driver_sql(
            "CREATE FUNCTION pg_temp_full() RETURNS trigger AS $$ BEGIN "
            "RAISE EXCEPTION 'could not extend file' USING ERRCODE = '53100'; END $$ LANGUAGE plpgsql"
        )
        session.connection().exec_driver_sql(
            "CREATE TRIGGER full_disk BEFORE INSERT ON project FOR EACH ROW EXECUTE FUNCTION pg_temp_full()"
        )
    try:
        answer = browser.ask("POST", "/api/projects", 507, json={"name": "No room"})
        assert "The disk is full" in answer["error"]
    finally:
        with browser.services.session() as session:
            session.connection().exec_driver_sql("DROP FUNCTION pg_temp_full CASCADE")


def test_names_are_kept_as_they_can_be(browser: Browser, project: int, shaky) -> None:
    for name, kept in (("a\nb\tc.mp4", "a b c.mp4"), ("港の船.mp4", "港の船.mp4"), ("x" * 300 + ".mp4", None)):
        browser.upload(project, shaky[0], name)
        cards = browser.ask("GET", f"/api/projects/{project}/clips")
        assert cards[-1]["name"] == (kept or "x" * 251 + ".mp4")
    for name in ("\ud800.mp4", "a\x00.mp4"):
        refused = browser.ask("POST", f"/api/projects/{project}/uploads", 400, json={"name": name, "size": 5})
        assert "characters that cannot be kept" in refused["error"]
