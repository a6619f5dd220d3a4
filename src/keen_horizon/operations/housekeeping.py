"""Keeping database and files together: one identity for both, and nothing is swept without it.

A folder of files and its database each carry the same identity. An empty or foreign database names none of the
files, so sweeping against it would take every original away; a start that finds such a pair says so and stops.
"""

from __future__ import annotations

import time
import uuid
from datetime import UTC, datetime, timedelta
from pathlib import Path

from sqlalchemy import func, select
from sqlalchemy.orm import Session

from keen_horizon.operations.clips import used_keys
from keen_horizon.store.files import DAY_S, FileStore, StoreError, Swept
from keen_horizon.store.models import Clip, StoreIdentity, Upload, Work, WorkState

FORGOTTEN_AFTER = timedelta(days=7)
SWEEPING = 0x6B65656E  # the advisory lock that a sweep holds alone, and backups share
NOTHING_SWEPT = Swept(0, 0, 0)


def belong_together(session: Session, files: FileStore) -> str:
    """The identity that database and files share; given to both where they are new. Raises StoreError."""
    row = session.scalar(select(StoreIdentity))
    theirs, ours = row and row.identity, files.identity()
    if theirs and theirs == ours:
        return theirs
    stored, named = files.stored_keys(), used_keys(session)
    if stored and not stored & named:
        raise StoreError(
            f"{files.data} holds {len(stored)} stored files, but the database names none of them: it is new, or "
            "belongs to another folder. Nothing was touched. Put the folder's own database back in its place "
            "(postgres, beside files), or restore a backup into an empty folder."
        )
    if named and not stored:
        raise StoreError(
            f"The database names {len(named)} files, but {files.data} holds none of them. Nothing was touched. Set "
            "KEEN_HORIZON_DATA to the folder with its files, or restore a backup into an empty folder."
        )
    if theirs and ours and stored:
        raise StoreError(
            f"The files in {files.data} and the database belong to different places. Nothing was touched. Put the "
            "folder's own database back in its place, or restore a backup into an empty folder."
        )
    identity = theirs or (ours if not stored else None) or uuid.uuid4().hex
    if row is None:
        session.add(StoreIdentity(identity=identity))
        session.flush()
    files.set_identity(identity)
    return identity


def tidy(session: Session, files: FileStore) -> Swept:
    """Put away what nobody needs: stored files, uploads that were given up, work files of no open work."""
    identity = belong_together(session, files)
    if not session.scalar(select(func.pg_try_advisory_xact_lock(SWEEPING))):
        return NOTHING_SWEPT  # a backup is being made: the files of its moment stay
    swept = files.sweep(used_keys(session), identity)
    now = datetime.now(UTC)
    for upload in session.scalars(select(Upload).where(Upload.changed_at < now - FORGOTTEN_AFTER)):
        session.delete(upload)
    session.flush()
    _forget_work_files(session, files)
    return swept


def settle_places(session: Session, files: FileStore) -> None:
    """Keep clips' own files by places relative to the media or the data folder, and by their time, as is done now."""
    for clip in session.scalars(select(Clip).where(Clip.source_path.is_not(None), Clip.source_root.is_(None))):
        path = Path(clip.source_path or "")
        place = files.place(path)
        clip.source_root, clip.source_path = place.root, place.path
        if clip.source_modified is None and path.is_file() and path.stat().st_size == clip.bytes:
            clip.source_modified = path.stat().st_mtime_ns


def _forget_work_files(session: Session, files: FileStore) -> None:
    """Remove work files older than a week that neither open work nor an upload may still need."""
    owners = tuple(_owned(session))
    oldest = time.time() - FORGOTTEN_AFTER.days * DAY_S
    for path in files.work_files():
        if path.stat().st_mtime < oldest and not path.name.startswith(owners):
            path.unlink(missing_ok=True)


def _owned(session: Session) -> list[str]:
    """What names of work files begin with that are still needed."""
    owned = [f"{upload_name(upload)}." for upload in session.scalars(select(Upload))]
    for work in session.scalars(select(Work).where(Work.state.in_((WorkState.WAITING, WorkState.WORKING)))):
        whose = {"ingest": work.clip_id, "measure": work.clip_id, "render": work.render_id}.get(work.kind, work.id)
        owned += [f"{work.kind}-{whose}.", f"{work.kind}-{whose}-"]
    return owned


def upload_name(upload: Upload) -> str:
    """What the work files of an upload begin with."""
    return f"upload-{upload.id}"
