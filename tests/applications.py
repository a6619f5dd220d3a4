"""The application over HTTP inside a test: a client that can also do the background work."""

from __future__ import annotations

import re
from pathlib import Path

import cv2
import numpy as np
from flask.testing import FlaskClient
from werkzeug.test import TestResponse as Response

from keen_horizon.jobs.running import run_work
from keen_horizon.store.models import Work, WorkState
from keen_horizon.web.services import Services


class Browser:
    """A client that carries the page's token, as the pages' script does."""

    def __init__(self, client: FlaskClient, services: Services) -> None:
        self.client, self.services = client, services
        self.token = re.search(r'csrf-token" content="([^"]+)"', client.get("/about").text)[1]  # type: ignore[index]

    def ask(self, method: str, address: str, status: int = 200, **options: object) -> dict:
        answer = self.client.open(address, method=method, headers={"X-CSRFToken": self.token}, **options)
        assert answer.status_code == status, answer.text
        return answer.get_json()

    def save(self, address: str, document: object, status: int = 200) -> Response:
        """A file that is made of a document."""
        answer = self.client.post(address, json=document, headers={"X-CSRFToken": self.token})
        assert answer.status_code == status, answer.text
        return answer

    def picture(self, clip: int, **wanted: object) -> np.ndarray:
        """An exact still, (rows, columns, 3) in B, G, R."""
        made = self.save(f"/api/clips/{clip}/stills", wanted).data
        return cv2.imdecode(np.frombuffer(made, np.uint8), cv2.IMREAD_COLOR)

    def work(self) -> None:
        """Do all waiting work, here and now."""
        with self.services.session() as session:
            waiting = [w.id for w in session.query(Work).order_by(Work.id) if w.state is WorkState.WAITING]
        for number in waiting:
            run_work(self.services.engine, self.services.files, number)

    def upload(self, project: int, path: Path, name: str | None = None) -> int:
        begun = {"name": name or path.name, "size": path.stat().st_size}
        upload = self.ask("POST", f"/api/projects/{project}/uploads", json=begun)
        address = f"/api/uploads/{upload['id']}/{upload['received']}"
        return self.ask("PUT", address, data=path.read_bytes()[upload["received"] :])["clip"]
