"""Asking the running application over HTTP, as a page does."""

from __future__ import annotations

import json
import re
from pathlib import Path
from urllib.error import HTTPError
from urllib.request import Request, urlopen

from services import wait_for

from keen_horizon.core.geometry.picture import Size
from keen_horizon.simulator.film import write_pictures
from keen_horizon.simulator.plane import jitter, shaken_pictures

LONGEST_S = 60.0
SMALL = Size(640, 360)


class Client:
    """Carries the page's token and cookie."""

    def __init__(self, address: str) -> None:
        self._address = address
        with urlopen(f"{address}/about", timeout=LONGEST_S) as page:
            self._token = re.search(r'csrf-token" content="([^"]+)"', page.read().decode())[1]  # type: ignore[index]
            self._cookie = page.headers["Set-Cookie"].partition(";")[0]

    def ask(self, method: str, path: str, body: bytes | None, kind: str = "application/json") -> tuple[int, bytes]:
        """The status and the content of an answer."""
        headers = {"X-CSRFToken": self._token, "Cookie": self._cookie, "Content-Type": kind}
        request = Request(self._address + path, body, headers, method=method)
        try:
            with urlopen(request, timeout=LONGEST_S) as answer:
                return answer.status, answer.read()
        except HTTPError as error:
            return error.code, error.read()

    def told(self, method: str, path: str, body: object = None) -> dict:
        """What a request that must succeed answers."""
        status, answer = self.ask(method, path, None if body is None else json.dumps(body).encode())
        assert status == 200, (path, status, answer[:300])
        return json.loads(answer)

    def upload(self, project: int, path: Path) -> int:
        """Send a file as one piece; the clip's number."""
        content = path.read_bytes()
        begun = self.told("POST", f"/api/projects/{project}/uploads", {"name": path.name, "size": len(content)})
        address = f"/api/uploads/{begun['id']}/{begun['received']}"
        status, answer = self.ask("PUT", address, content[begun["received"] :], "application/octet-stream")
        assert status == 200, answer
        return int(json.loads(answer)["clip"])


def shaky_clip(folder: Path, frames: int = 40, seed: int = 5, noise: float = 1.0) -> Path:
    """A shaken clip of 640x360, made from its seed."""
    clip = folder / f"quay_{seed:02}.mp4"
    pictures = shaken_pictures(jitter(frames, SMALL, 6.0, seed=seed), SMALL, noise=noise)
    write_pictures(pictures, SMALL, 30, clip, quality=16)
    return clip


def bring_in(client: Client, folder: Path, noise: float = 1.0) -> int:
    """A shaken clip, made, sent, prepared and measured; its number."""
    clip = shaky_clip(folder, noise=noise)
    project = client.told("POST", "/api/projects", {"name": "Harbour film"})["id"]
    number = client.upload(project, clip)
    wait_for(lambda: client.ask("GET", f"/api/clips/{number}", None)[0] == 200)
    client.told("POST", f"/api/clips/{number}/measure", {})
    wait_for(lambda: client.told("GET", f"/api/clips/{number}")["measured"])
    return number
