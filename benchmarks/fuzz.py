"""Damaged media through measure and correct, odd treatments and lens files through the running application.

    .venv/bin/python benchmarks/fuzz.py [--media 2000] [--treatments 2000] [--lenses 500] [--seed 1]

Every answer must be a clear refusal or a result: no signal, no traceback, nothing over 60 s, no file left behind, and
the web process stays below 600 MB. What was not so is listed, with the number to make it again; the status is then 1.
"""

from __future__ import annotations

import argparse
import contextlib
import json
import os
import random
import re
import sys
import tempfile
import time
from collections import Counter
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

HERE = Path(__file__).resolve().parent
sys.path.append(str(HERE.parent / "tests"))
os.environ["PYTHONPATH"] = str(HERE)  # processes apart find `hostile` too

from asking import Client, bring_in
from hostile import damaged, lens_files, measured_and_corrected, rich_treatment, seed_clips, treatments
from services import serving, throw_away_cluster, working

from keen_horizon.config import Settings
from keen_horizon.core.errors import MediaError
from keen_horizon.core.lens.exchange.files import FORMS, write_profile
from keen_horizon.core.lens.profile import starters
from keen_horizon.jobs.apart import Apart

LONGEST_S = 60.0
MOST_WEB_BYTES = 600 << 20


def fuzz_media(count: int, seed: int) -> list[str]:
    """Troubles of damaged media files."""
    troubles: list[str] = []
    outcomes: Counter[str] = Counter()
    with tempfile.TemporaryDirectory() as base:
        folder = Path(base)
        (folder / "seeds").mkdir()
        contents = [(path.name, path.read_bytes()) for path in seed_clips(folder / "seeds")]
        apart = Apart(seconds=LONGEST_S)

        def one(number: int) -> None:
            if number % 250 == 0:
                print(f"media: {number} begun, {len(troubles)} troubles", flush=True)
            draw = random.Random(seed * 1_000_003 + number)
            name, content = draw.choice(contents)
            out = folder / f"{number}"
            out.mkdir()
            clip = out / f"{number}_{name}"
            clip.write_bytes(damaged(content, draw))
            began = time.monotonic()
            try:
                said = apart.call(clip.name, measured_and_corrected, str(clip), str(out))
                outcomes["done" if not said else re.sub(r".*?: ", "", said.removeprefix("keen-horizon: "))[:60]] += 1
                if said and clip.name not in said and "c.mp4: the file could not" not in said:
                    troubles.append(f"media {number} {name}: does not name the file: {said}")
            except (MediaError, RuntimeError) as error:
                troubles.append(f"media {number} {name}: {error}")
            if time.monotonic() - began > LONGEST_S:
                troubles.append(f"media {number} {name}: {time.monotonic() - began:.0f} s")
            left = [path.name for path in out.iterdir() if path not in (clip, out / "m.npz", out / "c.mp4")]
            if left:
                troubles.append(f"media {number} {name}: left behind {left}")
            for path in out.iterdir():
                path.unlink()

        with ThreadPoolExecutor(2) as pool:
            list(pool.map(one, range(count)))
        apart.close()
    print(f"media: {count} files, " + "; ".join(f"{n} x {text}" for text, n in outcomes.most_common(8)))
    return troubles


def fuzz_application(treatment_count: int, lens_count: int, seed: int) -> list[str]:
    """Troubles of odd treatments and lens files, sent to the application that runs for it."""
    troubles: list[str] = []
    with tempfile.TemporaryDirectory() as base, throw_away_cluster() as cluster:
        folder = Path(base)
        settings = Settings(folder / "data", cluster.url, None)
        with serving(settings) as address, working(settings):
            client = Client(address)
            clip = bring_in(client, folder)
            troubles += _fuzz_treatments(client, clip, treatment_count, seed)
            troubles += _fuzz_lenses(client, lens_count, seed)
            status, _ = client.ask("GET", "/api/works", None)
            if status != 200:
                troubles.append(f"afterwards the application answers {status}")
            most = _largest_web_process(address)
            print(f"web process: {most / (1 << 20):.0f} MB at most")
            if most > MOST_WEB_BYTES:
                troubles.append(f"the web process took {most >> 20} MB")
        left = [path.name for path in (folder / "data" / "work").iterdir()]
        if left:
            troubles.append(f"left behind {left}")
    return troubles


def _fuzz_treatments(client: Client, clip: int, count: int, seed: int) -> list[str]:
    draw, statuses, troubles = random.Random(seed), Counter(), []
    base = rich_treatment()
    for number, text in enumerate(treatments(base, count, seed)):
        where = draw.choice(
            ("solve", "solve", "solve", "draft", "stills", "data/path.json", "versions", "smallest-zoom")
        )
        body = text
        if where == "stills":
            body = json.dumps({"frame": draw.choice((0, 5, 39, 40, 2**40)), "treatment": json.loads(text)})
        if where == "smallest-zoom":
            body = json.dumps({"treatment": json.loads(text), "shake_percent": draw.choice((0.01, 0.1, 1e300))})
        began = time.monotonic()
        status, answer = client.ask("PUT" if where == "draft" else "POST", f"/api/clips/{clip}/{where}", body.encode())
        statuses[status] += 1
        took = time.monotonic() - began
        if status >= 500 or took > LONGEST_S:
            troubles.append(f"treatment {number} to {where}: {status} in {took:.0f} s: {answer[:200]!r}: {body[:300]}")
    print(f"treatments: {count}, answers {dict(sorted(statuses.items()))}")
    return troubles


def _fuzz_lenses(client: Client, count: int, seed: int) -> list[str]:
    statuses, troubles = Counter(), []
    profile = starters()[1]
    whole = {form: write_profile(profile, form) for form in FORMS}
    for name, content in lens_files(whole, count, seed):
        began = time.monotonic()
        status, answer = client.ask("POST", f"/api/lens-profiles/files/{name}", content, "application/octet-stream")
        statuses[status] += 1
        if status >= 500 or time.monotonic() - began > LONGEST_S:
            troubles.append(f"lens file {name}: {status}: {answer[:200]!r}")
    print(f"lens files: {sum(statuses.values())}, answers {dict(sorted(statuses.items()))}")
    return troubles


def _largest_web_process(address: str) -> int:
    """The most memory that the process had which listens at an address, bytes."""
    port = f"{int(address.rpartition(':')[2]):04X}"
    sockets = {
        row.split()[9] for row in Path("/proc/net/tcp").read_text().splitlines() if row.split()[1].endswith(port)
    }
    for folder in Path("/proc").glob("[0-9]*"):
        with contextlib.suppress(OSError):
            held = {path.readlink().name for path in (folder / "fd").iterdir()}
            if any(f"socket:[{number}]" in held for number in sockets):
                status = (folder / "status").read_text()
                return int(re.search(r"VmHWM:\s+(\d+) kB", status)[1]) << 10  # type: ignore[index]
    return 0


def main() -> int:
    """Run everything; 0 when nothing went wrong."""
    parser = argparse.ArgumentParser(description=__doc__.splitlines()[0])
    for name, usual in (("media", 2000), ("treatments", 2000), ("lenses", 500), ("seed", 1)):
        parser.add_argument(f"--{name}", type=int, default=usual)
    options = parser.parse_args()
    began = time.monotonic()
    troubles: list[str] = []
    if options.treatments or options.lenses:
        troubles += fuzz_application(options.treatments, options.lenses, options.seed)
    if options.media:
        troubles += fuzz_media(options.media, options.seed)
    print(f"{time.monotonic() - began:.0f} s, {len(troubles)} troubles")
    print("\n".join(troubles))
    return 1 if troubles else 0


if __name__ == "__main__":
    sys.exit(main())
