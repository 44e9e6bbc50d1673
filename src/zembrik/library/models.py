"""What is on record."""

from __future__ import annotations

import copy
import datetime
from typing import Any

import jsonpatch
from sqlalchemy import BigInteger, DateTime, ForeignKey, Index, String, Text, UniqueConstraint, func
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship

from zembrik.library.author import author

Moment = datetime.datetime


class Base(DeclarativeBase):
    """All tables."""

    type_annotation_map = {dict[str, Any]: JSONB, list[Any]: JSONB, Moment: DateTime(timezone=True)}


class Show(Base):
    """A film, a series, a campaign."""

    __tablename__ = "show"
    id: Mapped[int] = mapped_column(primary_key=True)
    title: Mapped[str] = mapped_column(String(300), unique=True)
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    archived: Mapped[Moment | None]  # when it was put away
    shots: Mapped[list[Shot]] = relationship(back_populates="show", order_by="Shot.code")


class Shot(Base):
    """One shot; its setup is the revision that `head_id` points at."""

    __tablename__ = "shot"
    __table_args__ = (UniqueConstraint("show_id", "code"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("show.id"))
    code: Mapped[str] = mapped_column(String(40))
    title: Mapped[str] = mapped_column(String(300))
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    archived: Mapped[Moment | None]  # when it was put away
    marks: Mapped[list[Any] | None]  # frames, in order
    head_id: Mapped[int | None] = mapped_column(ForeignKey("revision.id", use_alter=True))
    redo: Mapped[list[Any]] = mapped_column(default=list)  # revisions undone, last one on top
    show: Mapped[Show] = relationship(back_populates="shots")
    head: Mapped[Revision | None] = relationship(foreign_keys=[head_id], post_update=True)


class Asset(Base):
    """A mesh file, known by its content."""

    __tablename__ = "asset"
    sha256: Mapped[str] = mapped_column(String(64), primary_key=True)
    name: Mapped[str] = mapped_column(String(300))
    size_bytes: Mapped[int] = mapped_column(BigInteger)
    points: Mapped[int]
    faces: Mapped[int]
    parent: Mapped[str | None] = mapped_column(String(64))  # the asset it was made from
    made_by: Mapped[str] = mapped_column(Text, default="", server_default="")
    created: Mapped[Moment] = mapped_column(server_default=func.now())


class Revision(Base):
    """One state of a shot's setup; never changed once written."""

    __tablename__ = "revision"
    __table_args__ = (UniqueConstraint("shot_id", "number"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"))
    number: Mapped[int]
    parent_id: Mapped[int | None] = mapped_column(ForeignKey("revision.id"))
    document: Mapped[dict[str, Any]]
    setup_hash: Mapped[str] = mapped_column(String(64), index=True)
    note: Mapped[str] = mapped_column(Text, default="")
    findings: Mapped[list[Any] | None]  # computed once, when first asked for
    author: Mapped[str] = mapped_column(String(40), default=author, server_default="")
    created: Mapped[Moment] = mapped_column(server_default=func.now())


class Bake(Base):
    """One run of a setup."""

    __tablename__ = "bake"
    __table_args__ = (Index("bake_of_shot", "shot_id", "id"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"))
    revision_id: Mapped[int] = mapped_column(ForeignKey("revision.id"))
    setup_hash: Mapped[str] = mapped_column(String(64))
    first: Mapped[int]
    last: Mapped[int]
    state: Mapped[str] = mapped_column(String(20), default="queued")  # queued running done stopped failed discarded
    stop_asked: Mapped[bool] = mapped_column(default=False)
    error: Mapped[str] = mapped_column(Text, default="")
    author: Mapped[str] = mapped_column(String(40), default=author, server_default="")
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    started: Mapped[Moment | None]
    ended: Mapped[Moment | None]
    # Of a trial: its sheet, what it changes of the revision, what it is called, and what was made of it.
    sheet_id: Mapped[int | None] = mapped_column(ForeignKey("trial_sheet.id"), index=True)
    patch: Mapped[list[Any] | None]
    label: Mapped[str] = mapped_column(Text, default="", server_default="")
    marked: Mapped[bool] = mapped_column(default=False, server_default="false")
    adopted: Mapped[bool] = mapped_column(default=False, server_default="false")
    handed_in: Mapped[str] = mapped_column(Text, default="", server_default="")  # the file that a cache came from
    revision: Mapped[Revision] = relationship()
    cache: Mapped[CacheRecord | None] = relationship(back_populates="bake", uselist=False)

    @property
    def document(self) -> dict[str, Any]:
        """The setup that is baked."""
        if not self.patch:
            return self.revision.document
        document: dict[str, Any] = jsonpatch.JsonPatch(self.patch).apply(copy.deepcopy(self.revision.document))
        return document


class TrialSheet(Base):
    """Several runs of one setup with other values, side by side."""

    __tablename__ = "trial_sheet"
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"))
    revision_id: Mapped[int] = mapped_column(ForeignKey("revision.id"))
    title: Mapped[str] = mapped_column(String(300))
    kind: Mapped[str] = mapped_column(String(20), default="trials")  # trials leverage proof
    plan: Mapped[dict[str, Any]] = mapped_column(default=dict)  # what the runs are there to tell
    chosen_id: Mapped[int | None]  # the trial that the others are held against
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    revision: Mapped[Revision] = relationship()


class CacheRecord(Base):
    """A cache on disk."""

    __tablename__ = "cache"
    id: Mapped[int] = mapped_column(primary_key=True)
    bake_id: Mapped[int] = mapped_column(ForeignKey("bake.id"), unique=True)
    folder: Mapped[str] = mapped_column(String(300))  # below the cache root
    done: Mapped[int | None]
    size_bytes: Mapped[int] = mapped_column(BigInteger, default=0)
    bake: Mapped[Bake] = relationship(back_populates="cache")
    approved: Mapped[Moment | None]
    approved_by: Mapped[str] = mapped_column(String(40), default="", server_default="")
    trashed: Mapped[Moment | None]
    trashed_by: Mapped[str] = mapped_column(String(40), default="", server_default="")
    was: Mapped[str | None] = mapped_column(String(20))  # the bake's state before the trash
    verified: Mapped[Moment | None]
    damage: Mapped[list[Any] | None]  # what was found wrong with it, in sentences


class Delivery(Base):
    """An exported file with its manifest."""

    __tablename__ = "delivery"
    id: Mapped[int] = mapped_column(primary_key=True)
    bake_id: Mapped[int] = mapped_column(ForeignKey("bake.id"), index=True)
    order: Mapped[dict[str, Any]]
    file: Mapped[str] = mapped_column(String(400))  # below the deliveries' root
    state: Mapped[str] = mapped_column(String(20), default="queued")  # queued running done failed stopped
    stop_asked: Mapped[bool] = mapped_column(default=False, server_default="false")
    frames_done: Mapped[int] = mapped_column(default=0)
    frames_all: Mapped[int] = mapped_column(default=0)
    manifest: Mapped[dict[str, Any] | None]
    error: Mapped[str] = mapped_column(Text, default="")
    author: Mapped[str] = mapped_column(String(40), default=author, server_default="")
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    bake: Mapped[Bake] = relationship()


class Errand(Base):
    """A longer piece of preparation that a worker does for a page; its result is kept."""

    __tablename__ = "errand"
    __table_args__ = (Index("errand_by_key", "key", "id"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"))
    kind: Mapped[str] = mapped_column(String(40))
    key: Mapped[str] = mapped_column(String(64))  # of all that the result depends on
    order: Mapped[dict[str, Any]]
    state: Mapped[str] = mapped_column(String(20), default="queued")  # queued running done failed stopped
    stop_asked: Mapped[bool] = mapped_column(default=False)
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    result: Mapped[dict[str, Any] | None]
    error: Mapped[str] = mapped_column(Text, default="")
    author: Mapped[str] = mapped_column(String(40), default=author, server_default="")
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    ended: Mapped[Moment | None]


class Take(Base):
    """Motion kept under a name: tracks of one body or many, of a setup or of a cache, for any shot of the show."""

    __tablename__ = "take"
    __table_args__ = (UniqueConstraint("show_id", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    show_id: Mapped[int] = mapped_column(ForeignKey("show.id"))
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"))  # where it was made
    name: Mapped[str] = mapped_column(String(120))
    source: Mapped[str] = mapped_column(Text)  # what it was made of, in words
    fps: Mapped[float]
    tracks: Mapped[list[Any]]  # {"body", "motion"} of each body
    favourite: Mapped[bool] = mapped_column(default=False)
    picture: Mapped[str] = mapped_column(Text, default="", server_default="")  # small, as a data URL; or nothing
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    shot: Mapped[Shot] = relationship()


class KeptProxy(Base):
    """A proxy kept under a name for a mesh: any shot that has this mesh can use it."""

    __tablename__ = "kept_proxy"
    __table_args__ = (UniqueConstraint("mesh_key", "name"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    mesh_key: Mapped[str] = mapped_column(String(64))
    name: Mapped[str] = mapped_column(String(120))
    proxy: Mapped[dict[str, Any]]
    shot_id: Mapped[int] = mapped_column(ForeignKey("shot.id"))  # where it was made
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    shot: Mapped[Shot] = relationship()


class Account(Base):
    """Somebody who may come in."""

    __tablename__ = "account"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(40), unique=True)
    password: Mapped[str] = mapped_column(Text)  # its argon2id hash
    stamp: Mapped[int]  # cookies with another one are not valid any more
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    ended: Mapped[Moment | None]


class ApiToken(Base):
    """What a script shows instead of a password."""

    __tablename__ = "api_token"
    id: Mapped[int] = mapped_column(primary_key=True)
    account_id: Mapped[int] = mapped_column(ForeignKey("account.id"))
    name: Mapped[str] = mapped_column(String(80))
    sha256: Mapped[str] = mapped_column(String(64), unique=True)
    created: Mapped[Moment] = mapped_column(server_default=func.now())
    used: Mapped[Moment | None]
    ended: Mapped[Moment | None]


class Removal(Base):
    """Something that was removed for good."""

    __tablename__ = "removal"
    id: Mapped[int] = mapped_column(primary_key=True)
    what: Mapped[str] = mapped_column(Text)
    author: Mapped[str] = mapped_column(String(40), default=author)
    created: Mapped[Moment] = mapped_column(server_default=func.now())


class Installation(Base):
    """What tells this installation from others: its identity, and the secret that it signs with."""

    __tablename__ = "installation"
    name: Mapped[str] = mapped_column(String(40), primary_key=True)
    value: Mapped[str] = mapped_column(Text)
