"""Receiving a file in pieces that may stop and go on.

An upload's row says how much has arrived. A piece is held in memory until it is whole; then, with the row locked, it
is written at its place, if that is where the file goes on. So one sender writes at a time, and nobody holds the file
while waiting for a network. What is on disk is read back and compared with what arrived, piece by piece, and with the
digest that the sender gave of the whole, before it is kept.
"""

from __future__ import annotations

import fcntl
import hashlib
import os
from collections.abc import Callable, Iterator
from contextlib import AbstractContextManager, contextmanager
from datetime import UTC, datetime
from pathlib import Path

from sqlalchemy import delete, select
from sqlalchemy.orm import Session

from keen_horizon.operations.clips import clip_from_upload
from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.housekeeping import upload_name
from keen_horizon.operations.lookup import find
from keen_horizon.operations.names import kept_name
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Project, Upload, UploadPiece

LARGEST = 1 << 40
RESERVE = 256 << 20

Transaction = Callable[[], AbstractContextManager[Session]]


class PieceRefused(NotPossible):
    """A piece that cannot be taken now; `received` says where the file goes on."""

    def __init__(self, message: str, received: int) -> None:
        super().__init__(message)
        self.received = received


def begin_upload(
    session: Session,
    files: FileStore,
    project_id: int,
    name: str,
    size: int,
    modified: int,
    digest: str | None = None,
) -> Upload:
    """Start receiving a file, or find the same file's earlier attempt, which may be complete and have a clip.

    `digest` is the SHA-256 of the whole, hex.
    """
    project = find(session, Project, project_id)
    name = kept_name(name)
    if size <= 0:
        raise NotPossible(f"{name}: the file is empty. Copy it again from the camera.")
    if size > LARGEST:
        raise NotPossible(
            f"{name}: the file is larger than {LARGEST >> 40} TB, the most that is taken. Split it first."
        )
    fingerprint = f"{name}:{size}:{modified}"
    earlier = select(Upload).where(Upload.project_id == project.id, Upload.fingerprint == fingerprint)
    upload = session.scalar(earlier.order_by(Upload.id).limit(1).with_for_update())
    if upload is not None and upload.clip_id is not None:
        return upload
    if upload is None:
        free = files.free_bytes()
        if size + RESERVE > free:
            raise NotPossible(f"{name} needs {size / 1e9:.1f} GB, but the disk has only {free / 1e9:.1f} GB left.")
        upload = Upload(project_id=project.id, name=name, size=size, fingerprint=fingerprint)
        session.add(upload)
        session.flush()
    upload.digest = digest or upload.digest
    if _bytes_on_disk(files, upload) < upload.received:
        _take_back(session, upload, 0)
    return upload


def receive(
    transaction: Transaction, files: FileStore, upload_id: int, start: int, piece: bytes, digest: str | None = None
) -> tuple[int, int | None]:
    """Write a piece that starts at `start`; the last one makes the clip. Gives how much has arrived, the clip's number.

    `digest` is the piece's SHA-256 as its sender has it, hex. Raises PieceRefused, NotThere.
    """
    with transaction() as session:
        upload = find(session, Upload, upload_id, locked=True)
        _write(session, files, upload, start=start, piece=piece, digest=digest)
    if upload.received == upload.size and upload.clip_id is None:
        return upload.size, _finished(transaction, files, upload_id)
    return upload.received, upload.clip_id


def _write(session: Session, files: FileStore, upload: Upload, *, start: int, piece: bytes, digest: str | None) -> None:
    if start != upload.received:
        raise PieceRefused(f"{upload.name}: expected the piece at {upload.received}, got {start}.", upload.received)
    if start + len(piece) > upload.size:
        raise NotPossible(f"{upload.name}: this is more than the {upload.size} bytes that were announced.")
    if not piece:
        return
    arrived = hashlib.sha256(piece).hexdigest()
    if digest is not None and digest != arrived:
        raise PieceRefused(f"{upload.name}: a piece was damaged on its way. It is sent again.", upload.received)
    with _opened(_path(files, upload), os.O_WRONLY | os.O_CREAT) as file:
        rest, place = memoryview(piece), start
        while rest:
            written = os.pwrite(file, rest, place)
            rest, place = rest[written:], place + written
        os.fdatasync(file)
    session.add(UploadPiece(upload_id=upload.id, start=start, length=len(piece), digest=arrived))
    upload.received, upload.changed_at = start + len(piece), datetime.now(UTC)


def _finished(transaction: Transaction, files: FileStore, upload_id: int) -> int:
    """Read the whole file back, keep it, and make the clip; its number."""
    with transaction() as session:
        upload = find(session, Upload, upload_id)
        pieces = [(piece.start, piece.length, piece.digest) for piece in upload.pieces]
        path = _path(files, upload)
    with _held(path, upload) as file:
        found, good = _read_back(file, pieces)
        wrong_whole = good == upload.size and upload.digest is not None and upload.digest != found
        if good < upload.size or wrong_whole:
            with transaction() as session:
                _take_back(session, find(session, Upload, upload_id, locked=True), 0 if wrong_whole else good)
            raise PieceRefused(
                f"{upload.name}: what arrived is not what was sent. It is sent again.", 0 if wrong_whole else good
            )
        with transaction() as session:
            upload = find(session, Upload, upload_id, locked=True)
            return clip_from_upload(session, files, upload, path, found).id


def _read_back(file: int, pieces: list[tuple[int, int, str]]) -> tuple[str, int]:
    """The SHA-256 of a file, and up to where its pieces are as they arrived."""
    whole, good = hashlib.sha256(), 0
    for start, length, digest in pieces:
        content = os.pread(file, length, start)
        if start != good or len(content) != length or hashlib.sha256(content).hexdigest() != digest:
            break
        whole.update(content)
        good += length
    return whole.hexdigest(), good


def _take_back(session: Session, upload: Upload, received: int) -> None:
    """Forget the pieces from `received` on, so that they are sent again."""
    session.execute(delete(UploadPiece).where(UploadPiece.upload_id == upload.id, UploadPiece.start >= received))
    upload.received = received


@contextmanager
def _held(path: Path, upload: Upload) -> Iterator[int]:
    """The file of an upload, for the only one who finishes it; the hold ends with the block, or this process."""
    try:
        with _opened(path, os.O_RDONLY) as file:
            fcntl.flock(file, fcntl.LOCK_EX | fcntl.LOCK_NB)
            yield file
    except (BlockingIOError, FileNotFoundError):  # being finished, or finished just now
        raise PieceRefused(f"{upload.name}: another window sent the last piece just now.", upload.size) from None


@contextmanager
def _opened(path: Path, how: int) -> Iterator[int]:
    file = os.open(path, how, 0o644)
    try:
        yield file
    finally:
        os.close(file)


def _bytes_on_disk(files: FileStore, upload: Upload) -> int:
    path = _path(files, upload)
    return path.stat().st_size if path.exists() else 0


def _path(files: FileStore, upload: Upload) -> Path:
    return files.work_path(f"{upload_name(upload)}.part")
