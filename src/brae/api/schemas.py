"""What goes over the wire."""

from __future__ import annotations

from datetime import datetime
from typing import TYPE_CHECKING, Annotated, Any, Literal, Union

from pydantic import BaseModel, ConfigDict, Field, field_validator, model_validator

from brae.core.assets.base import Details
from brae.core.assets.registry import kinds
from brae.core.assets.sheet import MatchSheet
from brae.core.structure.workshop import Kind, Look, Says, entropy


def _any_details() -> Any:
    """The details of every kind; of kinds that have no more to say, what all have."""
    own = [kind.details for kind in kinds().values() if kind.details is not Details]
    return Union[(*own, Details)]


if TYPE_CHECKING:
    AnyDetails = Details
else:
    AnyDetails = _any_details()


class Row(BaseModel):
    """Read from a database row."""

    model_config = ConfigDict(from_attributes=True)


#: the largest number that the database holds
LARGEST = 2**63 - 1


class Asked(BaseModel):
    """The body of a request. No text in it holds a NUL: no path, name or address has one."""

    @model_validator(mode="before")
    @classmethod
    def _no_nul(cls, data: Any) -> Any:
        waiting = [data]
        while waiting:
            one = waiting.pop()
            if isinstance(one, dict):
                waiting += [*one.keys(), *one.values()]
            elif isinstance(one, list):
                waiting += one
            elif isinstance(one, str) and "\0" in one:
                raise ValueError("a text holds a NUL character")
        return data


class Problem(BaseModel):
    """problem+json (RFC 9457), with the parts of Brae's own errors."""

    type: str = "about:blank"
    title: str
    status: int
    detail: str
    code: str
    address: str | None = None
    offset: int | None = None
    line: int | None = None
    expected: str | None = None
    remedy: str | None = None


class Fault(BaseModel):
    """An error inside another answer."""

    code: str
    message: str
    address: str | None = None
    offset: int | None = None
    line: int | None = None
    expected: str | None = None
    remedy: str | None = None
    layout: str | None = None


class State(BaseModel):
    """What this Brae is."""

    version: str
    home: str
    user_folder: str
    demo: str | None


class JobView(BaseModel):
    """A job as it stands."""

    id: int
    kind: str
    title: str
    project_id: str | None
    #: what it is about, such as the file's path
    arguments: dict[str, Any]
    state: Literal["waiting", "running", "done", "failed", "cancelled", "interrupted"]
    #: the job of the same project that comes first
    waits_for: str | None = None
    #: what it does just now
    doing: str | None = None
    done: int
    total: int
    unit: str
    rate: float | None
    result: dict[str, Any] | None
    error: Fault | None


class OpenRequest(Asked):
    """Which folder or archive to open."""

    path: str


class Proof(BaseModel):
    """Whether an unchanged rebuild equals the original."""

    exact: bool
    members: int = 0
    file: str | None = None
    offset: int | None = None
    field: str | None = None
    reason: str | None = None
    #: what an unchanged rebuild writes in that field, and what stood there, in hexadecimal
    wrote: str | None = None
    stood: str | None = None
    #: the line of the layout that would explain it, where something does
    remedy: str | None = None
    #: "signs": only members are known, by their signs; null where all of it is described
    scope: str | None = None


class EvidenceView(BaseModel):
    """One thing that a file says about its description."""

    id: str
    speaks: Literal["for", "against", "nothing"]
    words: str


class ArchiveView(Row):
    """An archive of a project."""

    address: str
    layout: str | None
    title: str
    files: dict[str, str]
    #: None until it has been worked out
    proof: Proof | None
    #: what speaks for its description, or against it: beside the proof, as that does not see wrong names
    evidence: list[EvidenceView] = []
    fault: str | None
    member_count: int

    @field_validator("proof", mode="before")
    @classmethod
    def _not_yet(cls, value: object) -> object:
        return value or None


class GameFile(Row):
    """A file of the game and whether Brae changed it."""

    path: str
    size: int
    sha256: str
    state: Literal["original", "patched", "rebuilt", "created"]
    current_size: int
    #: what is kept of it: the whole file, or bytes of ranges
    kept_whole: bool
    kept_bytes: int
    changed_behind: str | None


class Counts(BaseModel):
    """What waits at each stage."""

    members: int
    in_work: int
    attention: int
    ready: int
    built_files: int


class ProjectSummary(Row):
    """A project in the list."""

    id: str
    name: str
    folder: str
    only: str | None
    opened: datetime


class UndescribedFile(BaseModel):
    """A file of the game that no layout describes."""

    path: str
    size: int
    #: what can be seen of it, one fact each
    words: list[str] = []
    #: how many files of open formats lie in it, by their signs, and what was left out
    found: int = 0
    left_out: list[str] = []
    #: whether its structure is worth a search
    like_archive: bool = False
    #: files that begin alike, or have the same ending
    family: list[str] = []


class StructureRequest(Asked):
    """Which file to look into, and the data file that belongs to it."""

    path: str
    data: str | None = None


class Proposal(BaseModel):
    """A layout that fits a file: its text, the share of bytes that it explains, its proof, some of the names."""

    text: str
    members: int
    explained: float
    exact: bool
    #: 'proved' where the rebuild is exact and nothing contradicts, else a beginning
    state: Literal["proved", "beginning"]
    evidence: list[EvidenceView] = []
    reason: str | None
    names: list[str]


class Structure(BaseModel):
    """What was found in a file, the best first."""

    path: str
    data: str | None = None
    proposals: list[Proposal]


class LayoutText(Asked):
    """A layout as a person wrote it, or took it."""

    text: Annotated[str, Field(max_length=1 << 20)]


class KeptLayout(BaseModel):
    """The file that a layout was saved to, in Brae's own folder."""

    file: str


class Choice(BaseModel):
    """One of several things to choose from."""

    name: str
    title: str


class GameView(BaseModel):
    """What the game's profile says, and what was chosen."""

    game: str
    title: str
    editions: list[Choice]
    #: what the files say, and what the person says instead
    edition: str | None
    chosen_edition: str | None
    ways: list[Choice]
    way: str


class Choices(Asked):
    """What a person chooses; what is left out stays, an empty edition takes the override away."""

    edition: str | None = None
    way: str | None = None


class ProjectView(ProjectSummary):
    """A project with all that the stages need."""

    files_seen: int
    layout_faults: list[Fault]
    archives: list[ArchiveView]
    loose_files: int
    undescribed: list[UndescribedFile]
    counts: Counts
    standin: bool
    exchange: str
    game: GameView | None
    #: files that miss their other half
    game_faults: list[str]


class FolderEntry(BaseModel):
    """A folder of this computer."""

    name: str
    path: str


class FileEntry(FolderEntry):
    """A file of this computer, and what it seems to be by its first bytes."""

    size: int
    seems: str | None
    #: whether a layout or an open container describes it
    archive: bool


class Folder(BaseModel):
    """A place on this computer, to choose a game from."""

    path: str
    parent: str | None
    folders: list[FolderEntry]
    files: list[FileEntry]
    #: the file that was asked for, where it was one
    file: str | None
    #: where games were opened before, and where else one may begin
    recent: list[FolderEntry]
    places: list[FolderEntry]
    #: entries that were left out, because there are too many
    left_out: int


class MemberView(Row):
    """A member in the catalogue."""

    address: str
    name: str
    kind: str
    container: str | None
    packer: str
    stored: int
    real: int
    #: what its kind says of it
    facts: dict[str, int | float | str]
    fault: str | None
    #: the address of the copy that the game uses instead
    winner: str | None = None
    edit: str | None = None


class MemberPage(BaseModel):
    """Part of the catalogue."""

    total: int
    offset: int
    items: list[MemberView]


class FacetValue(BaseModel):
    """One value by which the catalogue can be narrowed."""

    value: str
    count: int


class Facet(BaseModel):
    """One thing by which the catalogue can be narrowed."""

    name: str
    label: str
    values: list[FacetValue]


class Facets(BaseModel):
    """All of them, and the folders."""

    facets: list[Facet]
    folders: list[FacetValue]


class FactView(Row):
    """How a fact is called and written."""

    name: str
    label: str
    unit: str
    case: Literal["as-is", "capitals"]
    words: dict[str, str]
    facet: bool
    #: how the catalogue is ordered by it: from the smallest, or from the largest
    order: Literal["", "up", "down"]
    line: bool


class Named(BaseModel):
    """Something by its identifier, with the words for it."""

    id: str
    words: str


class KindView(BaseModel):
    """A kind of item: how it is called, what it says, and what can be done with it."""

    id: str
    title: str
    titles: str
    facts: list[FactView]
    #: endings of the files that go out and come back; none where it is only looked at
    suffixes: list[str]
    preview: Literal["image", "audio", "text", "none"]
    remedies: list[Named]
    marks: list[Named]
    #: the search for such an item in bytes without a header, in words; null where there is none
    headless: str | None


class KindsView(BaseModel):
    """Every kind, and in what the catalogue can be ordered."""

    kinds: list[KindView]
    orders: list[Named]


class StepView(Row):
    """One version of an edit."""

    number: int
    what: str
    file_name: str
    remedies: list[str]
    made: datetime


class EditView(BaseModel):
    """An item in work."""

    address: str
    name: str
    kind: str
    state: Literal["waiting", "ready", "attention", "same"]
    file: str
    file_exists: bool
    fault: str | None
    position: int
    steps: list[StepView]
    sheet: MatchSheet | None
    #: what the page of its kind needs to know beyond that
    details: AnyDetails
    #: files that replace parts of it: their names, by the kind's names for the parts
    beside: dict[str, str] = {}
    #: the version in use makes it obvious for a trial
    marked: bool = False
    revision: str


class ItemView(BaseModel):
    """One item with all that is known of it."""

    member: MemberView
    archive: ArchiveView
    offset: int | None
    edit: EditView | None
    #: addresses of the items that this one refers to, and of those that refer to it
    refers_to: list[str] = []
    used_by: list[str] = []


class Addresses(Asked):
    """Items by their addresses."""

    addresses: list[str]


class TestColours(Asked):
    """Items, and the test colours that they get; none to take them back."""

    __test__ = False  # no test of pytest's
    addresses: list[str]
    mark: str | None


class Remedies(Asked):
    """Exactly the remedies to apply."""

    remedies: list[str]


class Chosen(BaseModel):
    """Items that were chosen by their places: those that can be edited, and the number of the others."""

    addresses: list[str]
    others: int


class ExportRequest(Asked):
    """What goes to which folder: the items named, or (where none is) all that a search finds."""

    folder: str
    addresses: list[str] | None = None
    q: str = ""
    where: list[str] = []
    inside: str | None = None
    in_work: bool = False


class ManyRequest(Asked):
    """What is done with many items; ``mark`` says which test colours."""

    addresses: list[str]
    act: Literal["edit", "mark", "unmark"]
    mark: str = ""


class ImportRequest(Asked):
    """A folder that was exported, to be taken back."""

    folder: str


class EditChoices(Asked):
    """Where the encoding departs from the original's; what is left out is taken from the original."""

    choices: dict[str, Any]


class Position(Asked):
    """How many versions count."""

    position: int


class MemberPlan(BaseModel):
    """One member's bytes before and after."""

    level: str
    stored_before: int
    stored_after: int
    real_before: int
    real_after: int
    slot: int


class InsidePlan(BaseModel):
    """An archive inside another that is changed first."""

    address: str
    title: str
    way: Literal["patch", "rebuild"]
    why: str
    members: list[MemberPlan]


class FilePlan(BaseModel):
    """What will happen to one file of the game."""

    path: str
    way: Literal["patch", "rebuild", "replace", "restore", "create", "remove"]
    why: str
    size_before: int
    size_after: int
    members: list[MemberPlan]
    inside: list[InsidePlan] = []


class BuildPlan(BaseModel):
    """What a build would do."""

    files: list[FilePlan]
    edits: list[str]
    left_out: dict[str, str]
    warnings: dict[str, str]
    faults: list[Fault]
    up_to_date: bool
    #: what the person has to agree to first, in words
    asks: list[str]


class BuildRequest(Asked):
    """How to build."""

    #: the person agrees to what the plan ``asks``
    may_grow: bool = False


class BuildView(Row):
    """A build or a restore that was carried out."""

    id: int
    what: str
    made: datetime
    files: list[FilePlan]
    edits: list[str]


class RestoreRequest(Asked):
    """Which files to put back; all where none is named."""

    paths: list[str] | None = None
    force: bool = False


class PlayReport(BaseModel):
    """What the stand-in did."""

    trace: list[str]
    refused: str | None
    placeholders: dict[str, str]
    scene: str


class TrialView(BaseModel):
    """The game before and after."""

    before: PlayReport
    after: PlayReport


class LayoutView(BaseModel):
    """A layout that is known."""

    layout: str
    title: str
    kind: str


# ---- the workshop


class WorkshopRequest(Asked):
    """A file of the game, the data file that belongs to it, and the description so far."""

    path: str
    data: str | None = None
    text: Annotated[str, Field(max_length=1 << 20)]


class WindowRequest(WorkshopRequest):
    """Which bytes to show; ``file`` is 'main', or 'data' for the second file."""

    file: Literal["main", "data"] = "main"
    offset: Annotated[int, Field(ge=0)]
    length: Annotated[int, Field(ge=0, le=4096)]


class SayRequest(WorkshopRequest):
    """Selected bytes and what they are."""

    file: Literal["main", "data"] = "main"
    start: Annotated[int, Field(ge=0)]
    end: int
    says: Says
    name: str


class MendRequest(Asked):
    """A description, and the line that one of its fields is to have."""

    text: Annotated[str, Field(max_length=1 << 20)]
    field: Annotated[str, Field(max_length=200)]
    remedy: Annotated[str, Field(max_length=500)]


class Sought(Asked):
    """Bytes to look for, in hexadecimal or as words."""

    path: str
    hex: Annotated[str, Field(pattern=r"^([0-9A-Fa-f]{2}\s*)*$", max_length=4096)] = ""
    words: Annotated[str, Field(max_length=1024)] = ""


class Places(BaseModel):
    """Where they stand; a hundred at most."""

    places: list[int]


class Said(BaseModel):
    """The description afterwards."""

    text: str


class SpanView(Row):
    """A stretch of a file and what it is."""

    start: int
    end: int
    kind: Kind
    name: str


class FieldView(SpanView):
    """A field over shown bytes."""

    value: str


class WindowView(BaseModel):
    """Bytes (base64) and the fields over them."""

    offset: int
    bytes: str
    fields: list[FieldView]


class MemberRow(BaseModel):
    """One line of the decoded table."""

    name: str
    offset: int
    stored: int
    real: int
    packer: str
    head: str
    fault: str | None


class FileMap(BaseModel):
    """What a whole file consists of: what is explained, what is not, and how random it looks (bits a byte)."""

    file: str
    size: int
    explained: float
    spans: list[SpanView]
    entropy: list[float]


class WorkshopView(BaseModel):
    """What a description makes of its files."""

    files: list[FileMap]
    members: int
    rows: list[MemberRow]
    proof: Proof | None
    evidence: list[EvidenceView] = []
    error: Fault | None

    @classmethod
    def of(cls, found: Look) -> WorkshopView:
        """From what the core found."""
        files = []
        for (file, spans), (name, source) in zip(found.spans.items(), found.seen.items(), strict=False):
            views = [SpanView.model_validate(span) for span in spans]
            files.append(
                FileMap(
                    file=name,
                    size=source.size,
                    explained=found.explained[file],
                    spans=views,
                    entropy=entropy(source),
                )
            )
        return cls(
            files=files,
            members=found.members,
            rows=[MemberRow.model_validate(row) for row in found.rows],
            proof=Proof.model_validate(found.proof.as_dict()) if found.proof else None,
            evidence=[EvidenceView.model_validate(one.as_dict()) for one in found.evidence],
            error=Fault.model_validate(found.error.as_dict()) if found.error else None,
        )
