"""New archives by a layout alone: what the families' own writers write, or what reads the same."""

from __future__ import annotations

import pytest

from brae.core.containers.making import make
from brae.core.errors import LayoutError
from brae.core.layouts.empty import empty
from brae.core.layouts.load import parse
from tests.core.families import BY_NAME, FAMILIES, Family, members_for

#: structures that take no new members yet, or of which a layout alone does not say enough: refused with a reason
REFUSED = {"fixed-size", "salted", "named", "naming", "packed-bits", "areas", "mixed", "measured"}
#: one file is one member: there is no archive of these without any
LONE = {"lone", "tune"}
#: made anew they are what the family's writer writes, to the byte
SAME = {
    "inline", "prefixed", "footer", "sizes", "hashed", "varints", "blocks", "runs", "hidden", "checks", "pays",
    "cut",
    "sectors", "blocks-counted", "offsets", "folders", "lone", "pieces",
}  # fmt: skip


def _made(family: Family, members: list[tuple[str, bytes]]) -> dict[str, bytes]:
    composed = make(family.described, members)
    return {file: b"".join(composed.read(file)) for file in composed.segments}


@pytest.mark.parametrize("family", [one for one in FAMILIES if one.name not in REFUSED], ids=lambda one: one.name)
def test_a_new_archive_holds_what_was_put_in(family: Family) -> None:
    members = members_for(family)
    files = _made(family, members)
    archive = family.open(files)
    proof = archive.prove()
    assert proof.exact, proof.reason
    found = dict(zip(archive.names, map(archive.read, range(len(archive))), strict=True))
    if family.named:
        assert found == dict(members)
    else:
        assert list(found.values()) == [data for _, data in members]
    if family.name in SAME:
        assert files == family.write(members)


@pytest.mark.parametrize(
    "family", [one for one in FAMILIES if one.name not in REFUSED | LONE], ids=lambda one: one.name
)
def test_an_archive_without_members_is_one(family: Family) -> None:
    archive = family.open(empty(family.described))
    assert len(archive) == 0
    assert archive.prove().exact


@pytest.mark.parametrize("name", sorted(REFUSED))
def test_what_cannot_be_made_is_refused_with_the_reason(name: str) -> None:
    family = BY_NAME[name]
    with pytest.raises(LayoutError) as refused:
        _made(family, members_for(family))
    assert len(refused.value.message) > 20


def test_chunks_that_hold_none_are_made_one_behind_the_other() -> None:
    family = BY_NAME["chunks"]
    members = [(name, bytes([k]) * (5 + 6 * k)) for k, name in enumerate(["HULL", "SAIL", "OARS"])]
    archive = family.open(_made(family, members))
    assert archive.prove().exact
    assert [(archive.names[k], archive.read(k)) for k in range(3)] == members


def test_a_texture_is_no_archive() -> None:
    layout = parse(
        "layout: t\ntitle: T\nkind: texture\nparts: [{pixels: p, facts: {width: 8, height: 8, format: bc1}}]"
    )
    with pytest.raises(LayoutError, match="describes a texture"):
        empty(layout)
