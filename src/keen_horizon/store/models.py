"""The rows. A clip's pictures and arrays are files whose keys stand here (see `files`)."""

from __future__ import annotations

import enum
import hashlib
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import BigInteger, DateTime, Enum, ForeignKey, String, Text, UniqueConstraint
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


def _now() -> datetime:
    return datetime.now(UTC)


class Base(DeclarativeBase):
    """Common ground of all rows."""

    type_annotation_map = {dict[str, Any]: JSONB, datetime: DateTime(timezone=True)}  # noqa: RUF012


def _named(kind: type[enum.StrEnum]) -> Enum:
    """An enumeration kept as its plain value."""
    return Enum(kind, native_enum=False, length=16, values_callable=lambda members: [m.value for m in members])


class ClipState(enum.StrEnum):
    """How far a clip has come in."""

    ARRIVING = "arriving"
    READY = "ready"
    FAILED = "failed"


class WorkState(enum.StrEnum):
    """A piece of background work."""

    WAITING = "waiting"
    WORKING = "working"
    DONE = "done"
    FAILED = "failed"
    CANCELLED = "cancelled"

    @property
    def open(self) -> bool:
        """Whether it may still change."""
        return self in (WorkState.WAITING, WorkState.WORKING)


class Project(Base):
    """A set of clips; `measures_itself` tells whether they are measured as they arrive."""

    __tablename__ = "project"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(120))
    measures_itself: Mapped[bool] = mapped_column(default=False)
    created_at: Mapped[datetime] = mapped_column(default=_now)
    clips: Mapped[list[Clip]] = relationship(back_populates="project", cascade="all, delete-orphan", order_by="Clip.id")
    edits: Mapped[list[Edit]] = relationship(back_populates="project", cascade="all, delete-orphan", order_by="Edit.id")


class Edit(Base):
    """An edit brought to a project: its OpenTimelineIO `document` as it came, and how many frames more than it uses
    are wanted on either side.
    """

    __tablename__ = "edit"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(String(255))
    document: Mapped[str] = mapped_column(Text)
    handles: Mapped[int]
    created_at: Mapped[datetime] = mapped_column(default=_now)
    project: Mapped[Project] = relationship(back_populates="edits")


class Clip(Base):
    """One media file. `source_key` names a stored file, `source_path` one that is used where it lies.

    That path is relative to the `source_root` "media" or "data", absolute where there is none (see store.files).
    Such a file may be replaced: it is known by `bytes`, `source_modified` (its time, ns) and `digest`.
    `asked` is how its fields are to be read, where an editor said so; `parts` {"clips": [ids]} are those that it is
    joined of, until it is, and then {"left": [words]} what of theirs the joined file has not.
    """

    __tablename__ = "clip"
    __table_args__ = (UniqueConstraint("project_id", "digest"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"), index=True)
    name: Mapped[str] = mapped_column(String(255))
    state: Mapped[ClipState] = mapped_column(_named(ClipState), default=ClipState.ARRIVING)
    error: Mapped[str | None]
    source_key: Mapped[str | None]
    source_path: Mapped[str | None]
    source_root: Mapped[str | None] = mapped_column(String(8))
    source_modified: Mapped[int | None] = mapped_column(BigInteger)
    digest: Mapped[str | None] = mapped_column(String(64))
    bytes: Mapped[int] = mapped_column(BigInteger, default=0)
    info: Mapped[dict[str, Any] | None]
    asked: Mapped[dict[str, Any] | None]
    parts: Mapped[dict[str, Any] | None]
    proxy: Mapped[dict[str, Any] | None]
    proxy_key: Mapped[str | None]
    thumbnails_key: Mapped[str | None]
    times_key: Mapped[str | None]
    draft: Mapped[dict[str, Any] | None]
    created_at: Mapped[datetime] = mapped_column(default=_now)
    project: Mapped[Project] = relationship(back_populates="clips")
    findings: Mapped[list[Finding]] = relationship(
        back_populates="clip", cascade="all, delete-orphan", order_by="Finding.id"
    )
    versions: Mapped[list[Version]] = relationship(
        back_populates="clip", cascade="all, delete-orphan", order_by="Version.id"
    )
    renders: Mapped[list[Render]] = relationship(
        back_populates="clip", cascade="all, delete-orphan", order_by="Render.id"
    )
    works: Mapped[list[Work]] = relationship(back_populates="clip", cascade="all, delete-orphan", order_by="Work.id")

    def found(self, kind: str) -> list[Finding]:
        """What was found of a kind in the pictures as they are now, in order."""
        return [finding for finding in self.findings if (finding.kind, finding.source_digest) == (kind, self.pictures)]

    @property
    def pictures(self) -> str | None:
        """What tells the clip's pictures from others: its file's digest, and how they are read where that differs."""
        info = self.info or {}
        reading, around = info.get("reading") or {}, info.get("camera") == "sphere"
        if self.digest is None or not (reading.get("first_field") or reading.get("rate") or around):
            return self.digest
        told = f"{self.digest} {reading.get('first_field')} {reading.get('every_field')} {reading.get('rate')}"
        return hashlib.sha256((told + " sphere" * around).encode()).hexdigest()


class Finding(Base):
    """What was found in frames `first` ... `last` of a clip whose pictures had the `source_digest` then.

    `kind` is "measure" (its motion), "pin" (a followed point), "flat" (a flat thing's corners), "lens",
    "falloff" or "fringe"; `name` tells one from others of its kind. `facts` are small; what is more lies in the file
    `key`.
    """

    __tablename__ = "finding"
    __table_args__ = (UniqueConstraint("clip_id", "source_digest", "kind", "name", "first", "last"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    clip_id: Mapped[int] = mapped_column(ForeignKey("clip.id", ondelete="CASCADE"), index=True)
    kind: Mapped[str] = mapped_column(String(16))
    name: Mapped[str] = mapped_column(String(64), default="")
    source_digest: Mapped[str] = mapped_column(String(64))
    first: Mapped[int]
    last: Mapped[int]
    key: Mapped[str | None]
    facts: Mapped[dict[str, Any]]
    created_at: Mapped[datetime] = mapped_column(default=_now)
    clip: Mapped[Clip] = relationship(back_populates="findings")


class Version(Base):
    """A saved treatment: A, B, C ... with its figures at the time."""

    __tablename__ = "version"
    __table_args__ = (UniqueConstraint("clip_id", "letter"),)

    id: Mapped[int] = mapped_column(primary_key=True)
    clip_id: Mapped[int] = mapped_column(ForeignKey("clip.id", ondelete="CASCADE"), index=True)
    letter: Mapped[str] = mapped_column(String(3))
    treatment: Mapped[dict[str, Any]]
    zoom: Mapped[float | None]
    person: Mapped[str | None] = mapped_column(String(80))
    created_at: Mapped[datetime] = mapped_column(default=_now)
    clip: Mapped[Clip] = relationship(back_populates="versions")


class StartingPoint(Base):
    """A named set of settings (see core.starting_points); the default one is what new clips start with."""

    __tablename__ = "starting_point"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80), unique=True)
    settings: Mapped[dict[str, Any]]
    shipped: Mapped[bool] = mapped_column(default=False)
    is_default: Mapped[bool] = mapped_column(default=False)


class StoredProfile(Base):
    """A lens profile (see core.lens.profile), its document whole; `name` is the document's, each once."""

    __tablename__ = "lens_profile"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80), unique=True)
    document: Mapped[dict[str, Any]]
    shipped: Mapped[bool] = mapped_column(default=False)


class Render(Base):
    """A delivered file, or one on its way; a comparison where `versus` says what with.

    `kind` is "picture", "plate" (the lens alone), "maps" (ST maps) or "overlay", where `graphics` says what is
    laid over: {"key": stored file, "name": as it came}.
    """

    __tablename__ = "render"

    id: Mapped[int] = mapped_column(primary_key=True)
    clip_id: Mapped[int] = mapped_column(ForeignKey("clip.id", ondelete="CASCADE"), index=True)
    treatment: Mapped[dict[str, Any]]
    key: Mapped[str | None]
    versus: Mapped[dict[str, Any] | None]
    kind: Mapped[str] = mapped_column(String(16), default="picture")
    graphics: Mapped[dict[str, Any] | None]
    report: Mapped[dict[str, Any] | None]
    path_key: Mapped[str | None]
    created_at: Mapped[datetime] = mapped_column(default=_now)
    clip: Mapped[Clip] = relationship(back_populates="renders")


class Work(Base):
    """A piece of background work and its progress; every change is announced."""

    __tablename__ = "work"

    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str] = mapped_column(String(16))
    clip_id: Mapped[int] = mapped_column(ForeignKey("clip.id", ondelete="CASCADE"), index=True)
    render_id: Mapped[int | None] = mapped_column(ForeignKey("render.id", ondelete="CASCADE"))
    first: Mapped[int | None]
    last: Mapped[int | None]
    state: Mapped[WorkState] = mapped_column(_named(WorkState), default=WorkState.WAITING, index=True)
    stop_wanted: Mapped[bool] = mapped_column(default=False)
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    rate: Mapped[float] = mapped_column(default=0.0)
    error: Mapped[str | None]
    details: Mapped[dict[str, Any] | None]
    priority: Mapped[int] = mapped_column(default=0)
    person: Mapped[str | None] = mapped_column(String(80))
    stopped_by: Mapped[str | None] = mapped_column(String(80))
    created_at: Mapped[datetime] = mapped_column(default=_now)
    started_at: Mapped[datetime | None]
    ended_at: Mapped[datetime | None]
    clip: Mapped[Clip] = relationship(back_populates="works")
    render: Mapped[Render | None] = relationship()


class Upload(Base):
    """A file on its way in, piece by piece; `digest` is the SHA-256 that its sender gave of the whole, if any.

    Its `clip` is set once it is in: whoever sends the same again is told so.
    """

    __tablename__ = "upload"

    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[int] = mapped_column(ForeignKey("project.id", ondelete="CASCADE"))
    name: Mapped[str] = mapped_column(String(255))
    size: Mapped[int] = mapped_column(BigInteger)
    received: Mapped[int] = mapped_column(BigInteger, default=0)
    digest: Mapped[str | None] = mapped_column(String(64))
    fingerprint: Mapped[str] = mapped_column(String(400), index=True)
    clip_id: Mapped[int | None] = mapped_column(ForeignKey("clip.id", ondelete="SET NULL"))
    created_at: Mapped[datetime] = mapped_column(default=_now)
    changed_at: Mapped[datetime] = mapped_column(default=_now)
    pieces: Mapped[list[UploadPiece]] = relationship(cascade="all, delete-orphan", order_by="UploadPiece.start")


class UploadPiece(Base):
    """A piece of an upload that was written: `length` bytes from `start` on, with their SHA-256 as they arrived."""

    __tablename__ = "upload_piece"

    upload_id: Mapped[int] = mapped_column(ForeignKey("upload.id", ondelete="CASCADE"), primary_key=True)
    start: Mapped[int] = mapped_column(BigInteger, primary_key=True)
    length: Mapped[int] = mapped_column(BigInteger)
    digest: Mapped[str] = mapped_column(String(64))


class StoreIdentity(Base):
    """The one row that says which folder of files this database belongs to (see operations.housekeeping)."""

    __tablename__ = "store_identity"

    identity: Mapped[str] = mapped_column(String(32), primary_key=True)


class Person(Base):
    """Somebody who signs in where the application is shared; sessions end when `stamp` changes."""

    __tablename__ = "person"

    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(80), unique=True)
    password: Mapped[str] = mapped_column(String(255))
    stamp: Mapped[str] = mapped_column(String(32))
    created_at: Mapped[datetime] = mapped_column(default=_now)
