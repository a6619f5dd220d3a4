"""Who may ask: names of the application, people who sign in, and TLS beyond loopback."""

from __future__ import annotations

import re
from dataclasses import replace

import pytest
from flask.testing import FlaskClient
from werkzeug.test import TestResponse

from keen_horizon.cli import main
from keen_horizon.config import Settings
from keen_horizon.core.errors import KeenHorizonError
from keen_horizon.operations.persons import add_person, change_password, remove_person
from keen_horizon.store.database import connect, transaction
from keen_horizon.store.models import Project
from keen_horizon.web import create_app

ELSEWHERE = {"REMOTE_ADDR": "192.0.2.7", "wsgi.url_scheme": "https"}
PASSWORD = "tide tables 1926"


@pytest.fixture
def shared(settings: Settings) -> FlaskClient:
    """The application, reached from elsewhere over TLS, with one person."""
    engine = connect(settings.database_url)
    with transaction(engine) as session:
        add_person(session, "Ada Quay", PASSWORD)
    engine.dispose()
    client = create_app(replace(settings, host="0.0.0.0", hosts=("edit.example",))).test_client()
    client.environ_base.update(ELSEWHERE)
    return client


def visit(client: FlaskClient, address: str, host: str = "edit.example", **more: object) -> TestResponse:
    return client.get(address, base_url=f"https://{host}", **more)


def token_of(page: TestResponse) -> str:
    return re.search('csrf(?:-token" content|_token" value)="([^"]+)"', page.text)[1]  # type: ignore[index]


def sign_in(
    client: FlaskClient, name: str = "ada quay", password: str = PASSWORD, address: str = "/sign-in"
) -> TestResponse:
    token = token_of(visit(client, "/sign-in"))
    form = {"name": name, "password": password, "csrf_token": token}
    return client.post(address, data=form, base_url="https://edit.example")


def post(client: FlaskClient, address: str, document: object) -> TestResponse:
    headers = {"X-CSRFToken": token_of(visit(client, "/about")), "Referer": "https://edit.example/"}
    return client.post(address, json=document, headers=headers, base_url="https://edit.example")


def test_a_foreign_name_is_told_nothing(settings: Settings) -> None:
    """As a page of another site asks after its name was pointed at loopback."""
    client = create_app(settings).test_client()
    for address in ("/", "/about", "/api/works", "/api/events", "/static/mark.svg", "/nowhere"):
        answer = client.get(address, headers={"Host": "rebound.example:8460"})
        assert answer.status_code == 400, address
        assert "csrf" not in answer.text
        assert "Set-Cookie" not in answer.headers
    for host in ("localhost:8460", "127.0.0.1", "127.0.0.1:8460"):
        assert client.get("/about", headers={"Host": host}).status_code == 200
    named = create_app(replace(settings, hosts=("edit.example",))).test_client()
    assert named.get("/about", headers={"Host": "edit.example"}).status_code == 200


def test_nothing_of_it_is_in_the_way_on_loopback(settings: Settings) -> None:
    client = create_app(settings).test_client()
    assert client.get("/about").status_code == 200
    assert client.get("/sign-in").headers["Location"] == "/"


def test_whoever_is_not_signed_in_gets_the_question(shared: FlaskClient) -> None:
    assert visit(shared, "/jobs").headers["Location"] == "/sign-in?next=/jobs"
    for address in ("/api/works", "/api/events"):
        answer = visit(shared, address)
        assert answer.status_code == 401
        assert "Sign in again" in answer.json["error"]
    assert visit(shared, "/media/clips/1/proxy.mp4").status_code == 302
    assert visit(shared, "/static/mark.svg").status_code == 200
    page = visit(shared, "/sign-in")
    assert "default-src 'self'" in page.headers["Content-Security-Policy"]
    cookie = page.headers["Set-Cookie"]
    assert all(flag in cookie for flag in ("HttpOnly", "SameSite=Strict", "Secure"))


def test_plain_http_from_elsewhere_is_refused(shared: FlaskClient) -> None:
    plain = shared.get("/sign-in", base_url="http://edit.example", environ_overrides={"wsgi.url_scheme": "http"})
    assert plain.status_code == 403
    assert "https only" in plain.text
    here = {"wsgi.url_scheme": "http", "REMOTE_ADDR": "127.0.0.1"}
    assert shared.get("/sign-in", base_url="http://127.0.0.1", environ_overrides=here).status_code == 200


def test_signing_in_and_out(shared: FlaskClient) -> None:
    assert sign_in(shared, address="/sign-in?next=/jobs").headers["Location"] == "/jobs"
    page = visit(shared, "/jobs")
    assert "Ada Quay: sign out" in page.text
    form = {"csrf_token": token_of(page)}
    shared.post("/sign-out", data=form, base_url="https://edit.example", headers={"Referer": "https://edit.example/"})
    assert visit(shared, "/jobs").status_code == 302


@pytest.mark.parametrize("trap", ["//evil.example", "https://evil.example/", "/\\evil.example", "javascript:1"])
def test_it_leads_to_pages_of_its_own_only(shared: FlaskClient, trap: str) -> None:
    assert sign_in(shared, address=f"/sign-in?next={trap}").headers["Location"] == "/"


def test_wrong_passwords_are_slowed(shared: FlaskClient) -> None:
    statuses = [sign_in(shared, password=f"wrong password {n}").status_code for n in range(7)]
    assert statuses == [401] * 5 + [429] * 2
    assert sign_in(shared).status_code == 429  # the right one too, for a minute
    assert "Wait a minute" in sign_in(shared).text
    assert sign_in(shared, name="somebody else").status_code == 401


def test_a_changed_password_or_a_removed_person_ends_sessions(shared: FlaskClient, settings: Settings) -> None:
    engine = connect(settings.database_url)
    sign_in(shared)
    assert visit(shared, "/jobs").status_code == 200
    with transaction(engine) as session:
        change_password(session, "Ada Quay", "another one 1927")
    assert visit(shared, "/jobs").status_code == 302
    assert sign_in(shared, password="another one 1927").status_code == 302
    with transaction(engine) as session:
        remove_person(session, "ada quay")
    assert visit(shared, "/jobs").status_code == 302
    engine.dispose()


def test_sessions_end_by_themselves(shared: FlaskClient, monkeypatch: pytest.MonkeyPatch) -> None:
    sign_in(shared)
    from keen_horizon.web import persons

    later = persons.time() + persons.LONGEST_S + 1
    monkeypatch.setattr(persons, "time", lambda: later)
    assert visit(shared, "/jobs").status_code == 302


def test_who_did_what_is_kept(shared: FlaskClient, settings: Settings, shaky) -> None:
    sign_in(shared)
    project = post(shared, "/api/projects", {"name": "Harbour film"}).json["id"]
    clip = post(shared, f"/api/projects/{project}/media", {"path": shaky[0].name}).json["id"]
    (work,) = visit(shared, "/api/works").json["works"]
    assert (work["person"], work["clip"]) == ("Ada Quay", clip)
    post(shared, f"/api/works/{work['id']}/cancel", {})
    assert visit(shared, "/api/works").json["works"][0]["stopped_by"] == "Ada Quay"


def test_the_commands(settings: Settings, monkeypatch: pytest.MonkeyPatch, capsys: pytest.CaptureFixture[str]) -> None:
    import io

    monkeypatch.setenv("KEEN_HORIZON_DATA", str(settings.data))
    monkeypatch.setenv("KEEN_HORIZON_DATABASE_URL", settings.database_url)

    def said(*command: str, password: str = PASSWORD) -> tuple[int, str]:
        monkeypatch.setattr("sys.stdin", io.StringIO(f"{password}\n"))
        status = main(["person", *command])
        told = capsys.readouterr()
        return status, told.out + told.err

    assert said("add", "Ada Quay")[0] == 0
    assert "There is a person" in said("add", "ada quay")[1]
    assert "10 characters" in said("add", "Ben", password="short")[1]
    assert said("list") == (0, "Ada Quay\n")
    assert said("password", "Ada Quay", password="another one 1927")[0] == 0
    assert said("remove", "Ada Quay")[0] == 0
    assert "There is no person" in said("remove", "Ada Quay")[1]


def test_names_of_people_can_be_shown(settings: Settings) -> None:
    engine = connect(settings.database_url)
    for name in ("", "a\nb", "\ud800", "x" * 81):
        with pytest.raises(KeenHorizonError, match="Give a name"), transaction(engine) as session:
            add_person(session, name, PASSWORD)
    with transaction(engine) as session:
        assert session.query(Project).count() == 0
    engine.dispose()
