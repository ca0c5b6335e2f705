"""The tables."""

from __future__ import annotations

import time
from datetime import UTC, datetime
from typing import Any, ClassVar

from sqlalchemy import JSON, BigInteger, DateTime, ForeignKey, Index, Integer, String, UniqueConstraint
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column, relationship


def now() -> datetime:
    """The present, in UTC."""
    return datetime.now(UTC)


class Base(DeclarativeBase):
    type_annotation_map: ClassVar = {
        dict[str, Any]: JSON,
        list[str]: JSON,
        list[dict[str, Any]]: JSON,
        int: BigInteger().with_variant(Integer, "sqlite"),
    }


class Project(Base):
    """A game that was opened."""

    __tablename__ = "projects"
    id: Mapped[str] = mapped_column(String(80), primary_key=True)
    name: Mapped[str]
    folder: Mapped[str]
    #: the one archive of a project that is not a whole folder, relative to it
    only: Mapped[str | None]
    opened: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)
    files_seen: Mapped[int] = mapped_column(default=0)
    layout_faults: Mapped[list[dict[str, Any]]] = mapped_column(default=list)
    #: the game profile that fits, and the edition it was told to be
    game: Mapped[str | None]
    edition: Mapped[str | None]
    #: what the person says it is instead, and the way by which builds go back
    chosen_edition: Mapped[str | None]
    way: Mapped[str | None]
    #: files that miss their other half, in words
    game_faults: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    #: files that no layout describes, largest first: path, size, time, what a look at them showed
    undescribed: Mapped[list[dict[str, Any]]] = mapped_column(default=list, server_default="[]")
    #: findings that are meant: their identifier, and the address or folder within which they are
    meant: Mapped[list[dict[str, Any]]] = mapped_column(default=list, server_default="[]")
    #: searches that the person keeps, the newest first: what the page asks with
    searches: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    #: with what all edits were matched last: a fingerprint of the game and its description; "" where they were not
    matched: Mapped[str] = mapped_column(default="", server_default="")
    #: counts the changes of what is listed, other than that more is
    listing: Mapped[int] = mapped_column(default=time.time_ns, server_default="1")


class Original(Base):
    """A file of the game: as it was when it was opened, and as Brae last wrote it."""

    __tablename__ = "originals"
    __table_args__ = (UniqueConstraint("project_id", "path"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[str] = mapped_column(ForeignKey("projects.id", ondelete="CASCADE"))
    path: Mapped[str]
    size: Mapped[int]
    sha256: Mapped[str]
    #: 'original', 'patched' or 'rebuilt'; 'created' where there was no such file
    state: Mapped[str] = mapped_column(default="original")
    current_size: Mapped[int]
    current_mtime: Mapped[int]
    current_sha256: Mapped[str]
    #: fingerprint of what was built, to tell whether a build would change anything
    built_from: Mapped[str | None]
    #: folders that Brae made for a created file, relative, outermost first
    made_folders: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    # Read together with its row: what was read is used after the session is closed.
    kept: Mapped[list[Kept]] = relationship(cascade="all, delete-orphan", order_by="Kept.offset", lazy="selectin")

    @property
    def whole(self) -> Kept | None:
        """The kept file, where it was kept as a whole."""
        return next((kept for kept in self.kept if kept.offset < 0), None)

    @property
    def ranges(self) -> list[Kept]:
        """The kept ranges of a patched file."""
        return [kept for kept in self.kept if kept.offset >= 0]


class Kept(Base):
    """Bytes of an original that a build replaced: the whole file (offset -1) or a range."""

    __tablename__ = "kept"
    id: Mapped[int] = mapped_column(primary_key=True)
    original_id: Mapped[int] = mapped_column(ForeignKey("originals.id", ondelete="CASCADE"), index=True)
    offset: Mapped[int]
    length: Mapped[int]
    sha256: Mapped[str]


class ArchiveRow(Base):
    """An archive (or a loose file) of a project."""

    __tablename__ = "archives"
    __table_args__ = (UniqueConstraint("project_id", "address"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[str] = mapped_column(ForeignKey("projects.id", ondelete="CASCADE"))
    #: the archive that it is a member of
    parent_id: Mapped[int | None] = mapped_column(ForeignKey("archives.id", ondelete="CASCADE"), index=True)
    address: Mapped[str]
    #: the layout, or the name of the open container; None for a loose file
    layout: Mapped[str | None]
    title: Mapped[str]
    #: the files it consists of, by the layout's names: relative to the project's folder, or labels in its parent
    files: Mapped[dict[str, Any]] = mapped_column(default=dict)
    #: empty until it has been worked out
    proof: Mapped[dict[str, Any]] = mapped_column(default=dict)
    #: what speaks for its description, or against it
    evidence: Mapped[list[dict[str, Any]]] = mapped_column(default=list, server_default="[]")
    fault: Mapped[str | None]
    member_count: Mapped[int] = mapped_column(default=0)
    #: where the files lie that were found by their signs; of no use to most, so read only where it is asked for
    hits: Mapped[list[list[Any]] | None] = mapped_column(JSON, default=None, deferred=True)
    #: what its members were told from: files as they were, and layouts; empty until all of them are listed
    listed_from: Mapped[str] = mapped_column(default="")


class Member(Base):
    """A member as the catalogue shows it."""

    __tablename__ = "members"
    __table_args__ = (
        Index("ix_members_name", "project_id", "name"),
        UniqueConstraint("project_id", "address"),
    )
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[str] = mapped_column(ForeignKey("projects.id", ondelete="CASCADE"))
    archive_id: Mapped[int] = mapped_column(ForeignKey("archives.id", ondelete="CASCADE"), index=True)
    number: Mapped[int]
    address: Mapped[str]
    name: Mapped[str]
    folder: Mapped[str]
    kind: Mapped[str]
    container: Mapped[str | None]
    packer: Mapped[str]
    stored: Mapped[int]
    real: Mapped[int]
    #: what its kind says of it, by the facts' names
    facts: Mapped[dict[str, Any]] = mapped_column(default=dict, server_default="{}")
    fault: Mapped[str | None]
    #: the address of the copy that the game uses instead of this one
    winner: Mapped[str | None]
    #: names of other items of the game that hold the rest of it
    parts: Mapped[list[str]] = mapped_column(default=list, server_default="[]")
    #: of an item that the game has not and a person made: the hash of its bytes
    base: Mapped[str | None]

    @property
    def made(self) -> bool:
        """Whether a person made it."""
        return self.base is not None


class Addition(Base):
    """An item that a person made: the game has none of that name until it is built."""

    __tablename__ = "additions"
    __table_args__ = (UniqueConstraint("project_id", "address"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[str] = mapped_column(ForeignKey("projects.id", ondelete="CASCADE"))
    address: Mapped[str]
    #: the address of the archive that it goes into; None for a loose file
    archive: Mapped[str | None]
    #: as the archive calls it, or the path of a loose file
    name: Mapped[str]
    #: the address of the item that it was made like
    like: Mapped[str]
    sha256: Mapped[str]
    #: taken away again; its bytes and its versions are kept
    gone: Mapped[bool] = mapped_column(default=False)
    made: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


#: how versions are called that are test colours
MARKED = "test colours: "


class Edit(Base):
    """An item in work."""

    __tablename__ = "edits"
    __table_args__ = (UniqueConstraint("project_id", "address"),)
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[str] = mapped_column(ForeignKey("projects.id", ondelete="CASCADE"))
    address: Mapped[str]
    kind: Mapped[str]
    #: relative to the project's exchange folder
    exchange_path: Mapped[str]
    in_work: Mapped[bool] = mapped_column(default=True)
    recipe: Mapped[dict[str, Any]] = mapped_column(default=dict)
    #: hash of the file that was sent out, so that it is not taken for an edit
    sent_sha256: Mapped[str]
    #: hash of the exchange file as it was last taken or written: only another one is an edit
    seen_sha256: Mapped[str | None]
    #: how many of ``steps`` count; undo and redo move it
    position: Mapped[int] = mapped_column(default=0)
    #: 'waiting', 'ready', 'attention' or 'same'
    state: Mapped[str] = mapped_column(default="waiting")
    sheet: Mapped[dict[str, Any] | None] = mapped_column(JSON, default=None)
    encoded_sha256: Mapped[str | None]
    #: what other items hold of it, by their addresses: hashes of their new bytes
    encoded_elsewhere: Mapped[dict[str, str]] = mapped_column(JSON, default=dict)
    #: why the file on disk could not be taken
    fault: Mapped[str | None]
    changed: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now, onupdate=now)
    #: counts the writes: what was worked out from one revision is not written over another
    revision: Mapped[int] = mapped_column(default=1, server_default="1")
    steps: Mapped[list[EditStep]] = relationship(
        cascade="all, delete-orphan", order_by="EditStep.number", lazy="selectin"
    )
    __mapper_args__ = {"version_id_col": revision}  # noqa: RUF012

    @property
    def current(self) -> EditStep | None:
        """The version in use; None where it is the original."""
        return self.steps[self.position - 1] if self.position else None

    @property
    def marked(self) -> bool:
        """Whether the version in use is test colours."""
        return self.current is not None and self.current.what.startswith(MARKED)


class EditStep(Base):
    """One version of an edit: the file as it came back, and the remedies applied to it."""

    __tablename__ = "edit_steps"
    id: Mapped[int] = mapped_column(primary_key=True)
    edit_id: Mapped[int] = mapped_column(ForeignKey("edits.id", ondelete="CASCADE"), index=True)
    number: Mapped[int]
    what: Mapped[str]
    file_sha256: Mapped[str]
    file_name: Mapped[str]
    remedies: Mapped[list[str]] = mapped_column(default=list)
    #: where the encoding departs from the original's recipe
    choices: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict)
    #: files that replace parts of it, by the kind's names for those: the file's hash and its name
    beside: Mapped[dict[str, list[str]]] = mapped_column(JSON, default=dict)
    #: the colour steps that the file was made by
    colours: Mapped[dict[str, Any] | None] = mapped_column(JSON, default=None)
    made: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)


class Build(Base):
    """A build or a restore, as it was carried out."""

    __tablename__ = "builds"
    id: Mapped[int] = mapped_column(primary_key=True)
    project_id: Mapped[str] = mapped_column(ForeignKey("projects.id", ondelete="CASCADE"), index=True)
    what: Mapped[str]
    made: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)
    files: Mapped[list[dict[str, Any]]] = mapped_column(default=list)
    edits: Mapped[list[str]] = mapped_column(default=list)
    #: which versions the game holds after it, by the addresses of their ``items``, and by which ``way``
    held: Mapped[dict[str, Any]] = mapped_column(JSON, default=dict, server_default="{}")


class JobRow(Base):
    """Long work; outlives a page and is found again after a restart."""

    __tablename__ = "jobs"
    id: Mapped[int] = mapped_column(primary_key=True)
    kind: Mapped[str]
    title: Mapped[str]
    project_id: Mapped[str | None]
    #: 'waiting', 'running', 'done', 'failed', 'cancelled' or 'interrupted'
    state: Mapped[str] = mapped_column(default="running")
    done: Mapped[int] = mapped_column(default=0)
    total: Mapped[int] = mapped_column(default=0)
    unit: Mapped[str] = mapped_column(default="")
    arguments: Mapped[dict[str, Any]] = mapped_column(default=dict)
    result: Mapped[dict[str, Any] | None] = mapped_column(JSON, default=None)
    error: Mapped[dict[str, Any] | None] = mapped_column(JSON, default=None)
    started: Mapped[datetime] = mapped_column(DateTime(timezone=True), default=now)
    ended: Mapped[datetime | None] = mapped_column(DateTime(timezone=True))
