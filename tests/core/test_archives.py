"""Properties of every described archive: proof, rebuild, patch, and what a change may touch."""

from __future__ import annotations

import zlib

import numpy as np
import pytest
from hypothesis import assume, given
from hypothesis import strategies as st

from brae.core.build.plan import plan_archive
from brae.core.containers.base import Proof
from brae.core.containers.described import Archive
from brae.core.errors import BraeError, FormatError, LayoutError, LimitError, ReadOnlyError, TruncatedError
from brae.core.layouts.edits import Edits, NewMember
from brae.core.layouts.segments import Composed
from tests.core.families import BY_NAME, FAMILIES, MEMBERS, Family, Members, members_for, shaped

words = st.text("abcdefghijklmnop0123456789_", min_size=1, max_size=10)
contents = st.binary(min_size=1, max_size=700) | st.integers(1, 3000).map(lambda size: b"tide " * (size // 5 + 1))


@st.composite
def archives(draw: st.DrawFn, families: list[Family] = FAMILIES) -> tuple[Family, Members]:
    """A family and members for it."""
    family = draw(st.sampled_from(families))
    found = draw(
        st.dictionaries(words, contents | st.just(b""), min_size=max(1, family.least), max_size=family.most)
    )
    return family, shaped(family, found)


def files_of(composed: Composed) -> dict[str, bytes]:
    """The bytes of a result, by file."""
    return {file: b"".join(composed.read(file)) for file in composed.segments}


def rebuilt(archive: Archive, edits: Edits) -> dict[str, bytes]:
    """The files of a rebuild; not where the game's last numbered file would be left empty, which is refused."""
    try:
        return files_of(archive.rebuild(edits))
    except LayoutError as error:
        assume("nothing left in it" not in error.message)
        raise


def content(archive: Archive) -> list[bytes]:
    """Every member, unpacked."""
    return [archive.read(index) for index in range(len(archive))]


@given(archives())
def test_unchanged_rebuild_is_the_original(made: tuple[Family, Members]) -> None:
    family, members = made
    files = family.write(members)
    archive = family.open(files)
    assert content(archive) == [data for _, data in members]
    if family.named:
        assert archive.names == [name for name, _ in members]
    assert archive.prove() == Proof(True, len(members))
    assert files_of(archive.rebuild({})) == files


@given(archives(), st.data())
def test_a_rebuild_equals_what_the_family_itself_would_write(
    made: tuple[Family, Members], data: st.DataObject
) -> None:
    """The strongest check there is: the changed archive equals the independent writer's, byte for byte."""
    family, members = made
    archive = family.open(family.write(members))
    some = [index for index in range(len(members)) if archive.stored_sizes[index]]
    assume(some)
    chosen = data.draw(st.sets(st.sampled_from(some), min_size=1))
    wanted = [(name, data.draw(contents) if index in chosen else old) for index, (name, old) in enumerate(members)]
    changes = {index: archive.pack(index, wanted[index][1], family.level) for index in chosen}
    expected = family.write(wanted)
    if family.name == "pair":  # the first gap of this family is zeros that no rule explains: it must be kept
        assert expected["body"][:512] == family.write(members)["body"][:512]
    found = rebuilt(archive, Edits(changed=changes))
    if family.exact:
        assert found == expected
    again = family.open(found)
    assert again.prove() == Proof(True, len(members))
    assert content(again) == [new for _, new in wanted]


@given(archives(), st.data())
def test_members_without_data_of_their_own_get_some(made: tuple[Family, Members], data: st.DataObject) -> None:
    family, members = made
    archive = family.open(family.write(members))
    some = [index for index in range(len(members)) if not archive.real_sizes[index]]
    assume(some)
    index = data.draw(st.sampled_from(some))
    new = data.draw(contents)
    try:
        found = files_of(archive.rebuild({index: archive.pack(index, new, family.level)}))
    except LayoutError as error:
        assert "no data of its own" in error.message
        assert family.name == "offsets"
        return
    again = family.open(found)
    assert again.prove().exact
    assert content(again) == [new if place == index else old for place, (_, old) in enumerate(members)]


GROWING = [family for family in FAMILIES if family.grows]


@given(archives(GROWING), st.data())
def test_members_are_added_and_removed_as_the_family_would(
    made: tuple[Family, Members], data: st.DataObject
) -> None:
    family, members = made
    archive = family.open(family.write(members))
    fresh = {family.shape(word): word for word in data.draw(st.lists(words, max_size=3))}
    for name, _ in members:
        fresh.pop(name, None)
    added = [(name, data.draw(contents)) for name in fresh]
    # Without names nobody could say which is gone; the last one may be the one that pads the file.
    removed = (
        data.draw(st.sets(st.integers(0, max(len(members) - 2, 0)), max_size=3)) if len(members) > 1 else set()
    )
    removed = {index for index in removed if archive.stored_sizes[index] and len(members) > 1}
    packed = [NewMember(name, archive.pack_new(name, new, family.level)) for name, new in added]
    kept = [item for index, item in enumerate(members) if index not in removed]
    found = rebuilt(archive, Edits(added=packed, removed=removed))
    again = family.open(found)
    expected = family.order([*kept, *added])
    assert content(again) == [new for _, new in expected]
    if family.named:
        assert again.names == [name for name, _ in expected]
    assert again.prove() == Proof(True, len(expected))


@pytest.mark.parametrize("family", [f for f in FAMILIES if not f.grows], ids=lambda family: family.name)
def test_what_cannot_be_added_or_removed_is_refused_with_the_reason(family: Family) -> None:
    members = shaped(family, {f"name{k}": b"data" * k for k in range(1, 1 + min(family.most, 5))})
    archive = family.open(family.write(members))
    try:
        made = files_of(archive.rebuild(Edits(removed={0})))
    except LayoutError as error:
        assert len(error.message) > 20
    else:
        assert content(family.open(made)) == [data for _, data in members[1:]]


@given(archives(), st.data())
def test_a_patch_moves_nothing(made: tuple[Family, Members], data: st.DataObject) -> None:
    family, members = made
    files = family.write(members)
    archive = family.open(files)
    some = [index for index in range(len(members)) if archive.stored_sizes[index]]
    assume(some)
    index = data.draw(st.sampled_from(some))
    new = data.draw(st.binary(min_size=1, max_size=max(len(members[index][1]), 1)))
    change = archive.pack(index, new)
    if not archive.takes(index, change):
        with pytest.raises(LayoutError):
            archive.patch({index: change})
        return
    composed = archive.patch({index: change})
    patched = {file: bytearray(old) for file, old in files.items()}
    for file in files:
        for offset, part in composed.changes(file):
            patched[file][offset : offset + len(part)] = part
    assert {file: bytes(new) for file, new in patched.items()} == files_of(composed)
    again = family.open(files_of(composed))
    assert again.prove().exact
    assert np.array_equal(again.offsets, archive.offsets)
    assert content(again) == [new if place == index else old for place, (_, old) in enumerate(members)]


@pytest.fixture(params=FAMILIES, ids=lambda family: family.name)
def family(request: pytest.FixtureRequest) -> Family:
    found: Family = request.param
    return found


def test_the_plan_says_which_way_and_why(family: Family) -> None:
    members = members_for(family)
    archive = family.open(family.write(members))
    index = min(3, len(members) - 1)
    same = archive.pack(index, members[index][1], family.level)
    large = archive.pack(index, np.random.default_rng(1).bytes(9000))
    if family.exact and not archive.in_blocks:
        assert plan_archive(archive, archive.prove(), {index: same}).way == "patch"
    plan = plan_archive(archive, archive.prove(), {index: large})
    assert plan.way == "rebuild"
    assert ("blocks" if archive.in_blocks else "slot") in plan.why
    assert plan.members[0].slot < plan.members[0].stored_after
    assert plan_archive(archive, archive.prove(), {index: same}, may_patch=False).way == "rebuild"


def test_without_a_proof_nothing_is_built(family: Family) -> None:
    archive = family.open(family.write(members_for(family)))
    with pytest.raises(ReadOnlyError, match="read-only"):
        plan_archive(archive, Proof(False, reason="the test says so"), {})


def test_the_proof_names_the_first_differing_field(family: Family) -> None:
    """A byte that some rule should explain is changed: the proof must name that field."""
    files = family.write(members_for(family))
    archive = family.open(files)
    for name, region in archive.parsed.regions.items():
        part = region.part
        # Only what is written anew and not needed to read the rest can be wrong without stopping the reading.
        computed = "file_size" in str(getattr(part, "is_", "")) or getattr(part, "checksum", None)
        if not computed:
            continue
        data = bytearray(files[region.file])
        data[region.start] ^= 0x40
        proof = family.open(files | {region.file: bytes(data)}).prove()
        assert (proof.exact, proof.field, proof.offset) == (False, name, region.start)


#: families in which something tells that a member's data is damaged
CHECKED = [one for one in FAMILIES if any(word in one.layout for word in ("over: stored", "over: real", "zlib"))]


@pytest.mark.parametrize("family", CHECKED, ids=lambda family: family.name)
def test_the_proof_checks_members_too(family: Family) -> None:
    files = family.write(members_for(family))
    archive = family.open(files)
    data = bytearray(files[archive.file])
    data[int(archive.offsets[4]) + int(archive.stored_sizes[4]) // 2] ^= 0xFF
    proof = family.open(files | {archive.file: bytes(data)}).prove()
    assert not proof.exact
    assert proof.field in (archive.labels[4], "whole") or (archive.in_blocks and "Block" in (proof.reason or ""))


def test_cut_files_are_refused_with_the_place(family: Family) -> None:
    files = family.write(members_for(family))
    file = "body" if family.name == "pair" else "main"
    # Behind the data there may be padding (or room) that no one misses.
    cut = {"pair": 600, "fixed-size": (1 << 16) - 2000, "sizes": 40, "hashed": 700, "bits": 400, "stream": 40}
    cut |= {"sectors": 2048, "digits": 700}
    try:
        archive = family.open(files | {file: files[file][: -cut.get(family.name, 9)]})
        proof = archive.prove()
    except BraeError as error:
        assert error.offset is not None or error.remedy or error.expected
    else:
        assert not proof.exact


def test_missing_companion_is_named() -> None:
    pair = BY_NAME["pair"]
    with pytest.raises(FormatError, match="belongs to this one"):
        pair.open({"main": pair.write(MEMBERS)["main"]})


def test_absurd_counts_allocate_nothing() -> None:
    flat = BY_NAME["flat"]
    data = bytearray(flat.write(MEMBERS)["main"])
    data[4:6] = b"\xff\xff"
    with pytest.raises(TruncatedError, match="65535 records"):
        flat.open({"main": bytes(data)})


def test_a_decompression_bomb_is_refused() -> None:
    tail = BY_NAME["tail"]
    files = tail.write([("a", b"\0" * 100_000), ("b", b"b" * 50)])
    archive = tail.open(files)
    start = archive.parsed.regions["entries"].start
    for claimed, error in ((1 << 31, LimitError), (200, FormatError), (100_001, FormatError)):
        data = bytearray(files["main"])
        data[start + 8 : start + 12] = claimed.to_bytes(4, "little")
        with pytest.raises(error):
            tail.open({"main": bytes(data)}).read(0)


def test_members_that_overlap_are_read_only() -> None:
    flat = BY_NAME["flat"]
    files = flat.write(MEMBERS)
    archive = flat.open(files)
    data = bytearray(files["main"])
    place = archive.parsed.regions["entries"].start + 36 * 2 + 24
    data[place : place + 4] = int(archive.offsets[1] + 4).to_bytes(4, "big")
    proof = flat.open({"main": bytes(data)}).prove()
    assert not proof.exact
    assert "overlap" in (proof.reason or "")


def test_packing_level_is_found_out() -> None:
    tail = BY_NAME["tail"]
    text = b"".join(f"row {k * k % 97} to pier {k}\n".encode() for k in range(600))
    archive = tail.open(tail.write([("a", text)]))
    assert archive.packing_level(0) == 9
    assert archive.pack(0, text, 9).stored == zlib.compress(text, 9)


def test_a_change_to_shared_data_leaves_the_others_alone() -> None:
    flat = BY_NAME["flat"]
    files = flat.write([("a", b"same"), ("b", b"same"), ("c", b"last")])
    data = bytearray(files["main"])
    first = flat.open(files)
    data[16 + 36 + 24 : 16 + 36 + 28] = int(first.offsets[0]).to_bytes(4, "big")
    archive = flat.open({"main": bytes(data)})
    assert archive.prove().exact
    again = flat.open(files_of(archive.rebuild({0: archive.pack(0, b"another one")})))
    assert content(again) == [b"another one", b"same", b"last"]
    assert again.prove().exact
    with pytest.raises(LayoutError, match="no data of its own"):
        archive.patch({0: archive.pack(0, b"else")})


@pytest.mark.parametrize("level", [1, 9])
def test_what_is_added_is_packed_at_its_siblings_level(level: int) -> None:
    family = BY_NAME["headed"]
    text = b"the tide turns at noon, and again at the lamp; " * 40
    members = [(f"pier/{k}.x", text[k:] + bytes([k]) * 90) for k in range(6)]
    archive = family.open(family.write(members))
    changed = {index: archive.pack(index, data, level) for index, (_, data) in enumerate(members)}
    again = family.open(files_of(archive.rebuild(Edits(changed=changed))))
    assert again.pack_new("new.x", text).stored == zlib.compress(text, level)
