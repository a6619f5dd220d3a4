"""Receiving a file in pieces that may stop and go on: what has arrived is simply what lies on disk."""

from __future__ import annotations

from pathlib import PurePath
from typing import BinaryIO

from sqlalchemy import select
from sqlalchemy.orm import Session

from keen_horizon.operations.errors import NotPossible
from keen_horizon.operations.lookup import find
from keen_horizon.store.files import FileStore
from keen_horizon.store.models import Project, Upload

LARGEST = 1 << 40
PIECE = 1 << 20
RESERVE = 256 << 20


def begin_upload(session: Session, files: FileStore, project_id: int, name: str, size: int, modified: int) -> Upload:
    """Start receiving a file, or find the same file's earlier attempt."""
    project = find(session, Project, project_id)
    name = PurePath(name.replace("\\", "/")).name[:255]
    name = name or "This file"
    if size <= 0:
        raise NotPossible(f"{name}: the file is empty. Copy it again from the camera.")
    if size > LARGEST:
        raise NotPossible(
            f"{name}: the file is larger than {LARGEST >> 40} TB, the most that is taken. Split it first."
        )
    fingerprint = f"{name}:{size}:{modified}"
    upload = session.scalar(
        select(Upload).where(Upload.project_id == project.id, Upload.fingerprint == fingerprint).limit(1)
    )
    if upload is None:
        free = files.free_bytes()
        if size + RESERVE > free:
            raise NotPossible(f"{name} needs {size / 1e9:.1f} GB, but the disk has only {free / 1e9:.1f} GB left.")
        upload = Upload(project_id=project.id, name=name, size=size, fingerprint=fingerprint)
        session.add(upload)
        session.flush()
    return upload


def received_bytes(files: FileStore, upload: Upload) -> int:
    """How much of the file has arrived."""
    path = files.work_path(f"upload-{upload.id}")
    return path.stat().st_size if path.exists() else 0


def receive(files: FileStore, upload: Upload, offset: int, body: BinaryIO) -> int:
    """Append a piece that starts at `offset`; returns how much has arrived. Raises NotPossible on a gap."""
    received = received_bytes(files, upload)
    if offset != received:
        raise NotPossible(f"{upload.name}: expected the piece at {received}, got {offset}.")
    with files.work_path(f"upload-{upload.id}").open("ab") as file:
        while received < upload.size:
            piece = body.read(min(PIECE, upload.size - received))
            if not piece:
                break
            file.write(piece)
            received += len(piece)
    return received
