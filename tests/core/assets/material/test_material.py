"""Materials: what their texts say, and one value changed with every other byte kept.

JSON beside the standard library's reader (RFC 8259), XML beside expat, INI beside configparser.
"""

from __future__ import annotations

import configparser
import json
import struct
import xml.etree.ElementTree as ElementTree
from dataclasses import replace

import pytest
from hypothesis import given
from hypothesis import strategies as st

from brae.core.assets.material.entries import entries
from brae.core.assets.material.kind import KIND
from brae.core.assets.material.matching import match, set_value
from brae.core.assets.material.material import Material, read
from brae.core.errors import BraeError, FormatError
from brae.core.layouts.load import parse
from brae.core.layouts.materials import PathRules, TextForm

LINES = """\
// the harbour wall
wall/stone
{
\tshader "lit"
\tstage {
\t\tmap "Walls\\\\stone"   // quoted
\t\tambient = 0.2 0.3 0.4
\t}
\tshine: 12;
\t"two sided" yes
}
""".replace("\\\\", "\\")
JSON = """{
  "shader": "lit", "maps": {"colour": "walls/stone", "normal" : "walls/stone_n"},
  "ambient": [0.2, 0.3,0.4], "shine": 12.0, "sides": true, "layers": [{"map": "a\\u0301"}]
}
"""
XML = """<?xml version="1.0"?>
<!-- colour="no" -->
<material shader='lit'>
  <colour file="walls/stone &amp; mortar"/>
  <shine>12</shine>
  <ambient r = "0.2" g="0.3"/>
</material>
"""


def _layout(form: str, **parts: object) -> str:
    said = json.dumps({"material": "values", "text": {"form": form, "comments": ["//", ";"]}, **parts})
    return f'layout: wall\ntitle: Wall\nkind: material\nmatch: {{names: ["*.mat"]}}\nparts: [{said}]\n'


#: a layout for materials such as LINES
WALL = _layout("lines", shader="shader", textures={"colour": "stage.map"}, numbers={"shine": {"key": "shine"}})


def _lines(text: str = LINES, **paths: str) -> Material:
    layout = parse(
        _layout(
            "lines", shader="shader", textures={"colour": "stage.map"}, colours={"ambient": "ambient"},
            numbers={"shine": {"key": "shine", "least": 0, "most": 100}}, switches={"two-sided": "two sided"},
            paths=paths,
        )
    )  # fmt: skip
    return read(layout, text.encode())


def test_lines_groups_quotes_and_comments() -> None:
    said = {one.role: (one.value, one.line) for one in _lines().values()}
    assert said == {
        "shader": ("lit", 4),
        "colour": ("Walls\\stone", 6),
        "ambient": ("0.2 0.3 0.4", 7),
        "shine": ("12", 9),
        "two-sided": ("yes", 10),
    }


def test_one_value_changes_and_every_other_byte_stays() -> None:
    made = set_value(_lines(), "stage.map", "Walls\\brick").encode().decode()
    assert made == LINES.replace("Walls\\stone", "Walls\\brick")
    assert set_value(_lines(), "shine", "3").encode().decode() == LINES.replace("shine: 12;", "shine: 3;")
    with pytest.raises(FormatError, match="quotes"):
        set_value(_lines(), "stage.map", 'a"b')
    with pytest.raises(FormatError, match="no value of this material"):
        set_value(_lines(), "other", "1")


def test_a_value_that_was_not_there_is_added_as_the_last_one_is_written() -> None:
    without = LINES.replace("\tshine: 12;\n", "")
    made = set_value(_lines(without), "shine", "7").encode().decode()
    assert made == without.replace('\t"two sided" yes\n', '\t"two sided" yes\n\t"shine" 7\n')
    assert {one.role: one.value for one in read(_lines().layout, made.encode()).values()}["shine"] == "7"


def test_json_beside_the_standard_library() -> None:
    found = {one.path: one.value for one in entries(JSON, TextForm(form="json"))}
    theirs = json.loads(JSON)
    assert found[("maps", "normal")] == theirs["maps"]["normal"]
    assert found[("layers", "0", "map")] == theirs["layers"][0]["map"]
    assert [float(one) for one in found[("ambient",)].split(",")] == theirs["ambient"]
    layout = parse(_layout("json", textures={"colour": "maps.colour"}, colours={"ambient": "ambient"}))
    made = set_value(read(layout, JSON.encode()), "maps.colour", 'a "b" \\ c').encode().decode()
    assert json.loads(made) == theirs | {"maps": theirs["maps"] | {"colour": 'a "b" \\ c'}}
    assert made.replace(json.dumps('a "b" \\ c'), '"walls/stone"') == JSON
    again = set_value(read(layout, JSON.encode()), "ambient", "1, 1, 1").encode()
    assert json.loads(again)["ambient"] == [1, 1, 1]


def test_xml_beside_expat() -> None:
    found = {one.path: one.value for one in entries(XML, TextForm(form="xml"))}
    tree = ElementTree.fromstring(XML)
    assert found[("material", "colour", "file")] == tree.find("colour").get("file")  # type: ignore[union-attr]
    assert found[("material", "shine")] == tree.findtext("shine")
    assert found[("material", "ambient", "g")] == "0.3"
    layout = parse(_layout("xml", textures={"colour": "colour.file"}, numbers={"shine": {"key": "shine"}}))
    made = set_value(read(layout, XML.encode()), "colour.file", 'a<"&b').encode().decode()
    assert ElementTree.fromstring(made).find("colour").get("file") == 'a<"&b'  # type: ignore[union-attr]
    with pytest.raises(FormatError, match="not ended"):
        entries("<a><b></b>", TextForm(form="xml"))


@pytest.mark.parametrize("begins", ["<!--", "<?", "<![CDATA[", "<a b", "<a b='"])
def test_what_is_not_ended_is_refused_however_long(begins: str) -> None:
    with pytest.raises(FormatError, match="not ended"):
        entries(begins * 200_000, TextForm(form="xml"))


@pytest.mark.parametrize(
    ("form", "text"), [("lines", "a {\n" * 80), ("json", "[" * 80 + "]" * 80), ("xml", "<a>" * 80)]
)
def test_no_more_groups_than_are_sensible(form: str, text: str) -> None:
    with pytest.raises(BraeError, match="within each other"):
        entries(text, TextForm.model_validate({"form": form}))


def test_ini_beside_configparser() -> None:
    text = "; first\n[wall]\ncolour = walls/stone\nshine=12\n[floor]\ncolour: floors/oak\n"
    theirs = configparser.ConfigParser()
    theirs.read_string(text)
    found = {one.path: one.value for one in entries(text, TextForm(comments=[";"]))}
    assert found == {(name, key): theirs[name][key] for name in theirs.sections() for key in theirs[name]}


def test_a_binary_material_by_its_header() -> None:
    layout = parse(
        "layout: bin\ntitle: Binary\nkind: material\nparts:\n"
        '  - {field: magic, type: bytes, length: 4, value: "MTRL"}\n'
        "  - {field: colour, type: string, prefix: u16}\n  - {field: bump, type: string, length: 16}\n"
        "  - {field: shine, type: f32}\n  - {field: sides, type: u8}\n"
        "  - {material: values, textures: {colour: colour, normal: bump},"
        " numbers: {shine: {key: shine}}, switches: {two-sided: sides}}\n"
    )
    data = b"MTRL" + struct.pack("<H5s16sfB", 5, b"a/oak", b"a/oak_n", 0.5, 1) + b"rest"
    material = read(layout, data)
    assert {one.role: one.value for one in material.values()} == {
        "colour": "a/oak", "normal": "a/oak_n", "shine": "0.5", "two-sided": "1",
    }  # fmt: skip
    assert material.encode() == data
    made = set_value(set_value(material, "colour", "longer/oak"), "shine", "0.25").encode()
    assert made == b"MTRL" + struct.pack("<H10s16sfB", 10, b"longer/oak", b"a/oak_n", 0.25, 1) + b"rest"
    with pytest.raises(FormatError, match="too long"):
        set_value(material, "bump", "x" * 17)
    # An editor gets its values as a text, and what is changed there comes back.
    sent = KIND.send(material)
    assert sent.data.decode() == 'colour = "a/oak"\nbump = "a/oak_n"\nshine = "0.5"\nsides = "1"\n'
    assert KIND.came(material, sent).encode() == data
    came = KIND.came(material, replace(sent, data=sent.data.replace(b'"1"', b'"0"')))
    assert came.encode() == data.replace(b"\x01rest", b"\0rest")


def test_a_colour_whose_numbers_are_fields_of_their_own() -> None:
    layout = parse(
        "layout: bin\ntitle: Binary\nkind: material\nparts:\n"
        "  - {field: r, type: f32}\n  - {field: g, type: f32}\n  - {field: b, type: f32}\n"
        "  - {field: lr, type: u8}\n  - {field: lg, type: u8}\n"
        "  - {field: lb, type: u8}\n  - {field: la, type: u8}\n"
        "  - {material: values, colours: {diffuse: [r, g, b], highlight: [lr, lg, lb, la]}}\n"
    )
    sent = KIND.send(read(layout, struct.pack("<3f4B", 0.1, 0.4, 1, 200, 100, 50, 7)))
    assert sent.data.decode() == 'r+g+b = "0.1 0.4 1"\nlr+lg+lb+la = "200 100 50 7"\n'
    data = struct.pack("<3f4B", 0.5, 0.25, 1, 200, 100, 50, 7)
    material = read(layout, data)
    assert {one.role: one.value for one in material.values()} == {
        "diffuse": "0.5 0.25 1", "highlight": "200 100 50 7",
    }  # fmt: skip
    made = set_value(set_value(material, "r+g+b", "0.125 0.25 0"), "lr+lg+lb+la", "#0a141e")
    assert made.encode() == struct.pack("<3f4B", 0.125, 0.25, 0, 10, 20, 30, 7)
    sent = KIND.send(material)
    assert KIND.came(material, sent).encode() == data
    came = KIND.came(material, replace(sent, data=sent.data.replace(b"0.5 0.25", b"0.75 0")))
    assert came.encode() == struct.pack("<3f4B", 0.75, 0, 1, 200, 100, 50, 7)
    # Numbers of more digits than a float is mostly shown with keep every bit, touched or not.
    third = read(layout, struct.pack("<3f4B", 1 / 3, 0.25, 1 / 7, 1, 2, 3, 4))
    shown = next(one.value for one in third.values() if one.role == "diffuse")
    assert shown is not None
    other = set_value(third, "r+g+b", shown.replace("0.25", "0.5"))
    assert other.encode() == struct.pack("<3f4B", 1 / 3, 0.5, 1 / 7, 1, 2, 3, 4)
    moved = set_value(third, "r+g+b", " ".join(reversed(shown.split())))
    assert moved.encode() == struct.pack("<3f4B", 1 / 7, 0.25, 1 / 3, 1, 2, 3, 4)
    with pytest.raises(FormatError, match="no colour of 3"):
        set_value(material, "r+g+b", "0.5")
    with pytest.raises(FormatError, match="cannot be written as u8"):
        set_value(material, "lr+lg+lb+la", "1 2 300 4")
    with pytest.raises(BraeError, match="spoken of twice"):
        parse(
            "layout: bin\ntitle: Binary\nkind: material\nparts:\n  - {field: r, type: f32}\n"
            "  - {material: values, colours: {diffuse: [r, r, r]}}\n"
        )


@pytest.mark.parametrize(
    ("path", "written"),
    [
        ("textures/walls/stone.ptx", "walls\\stone"),
        ("Walls/Stone", "walls\\stone"),
        ("walls\\stone.PTX", "walls\\stone"),
        ("walls\\stone", "walls\\stone"),
    ],
)
def test_paths_are_written_by_the_rules(path: str, written: str) -> None:
    rules = PathRules(under="textures", ending=".ptx", slash="\\", case="lower")
    assert rules.written(path) == written
    assert rules.written(rules.item(written)) == written
    assert rules.item(written) == "textures/walls/stone.ptx"


def test_what_the_game_makes_itself_is_no_path() -> None:
    came = _lines(LINES.replace("Walls\\stone", "$White"), under="textures", case="lower", own=["$*"])  # type: ignore[arg-type]
    assert KIND.pointed(came) == []
    sheet, made = match(_lines(), came, ("paths",))
    assert (sheet.findings, made.textures()) == ([], {"colour": "$White"})


def test_what_breaks_the_rules_is_told_and_put_right() -> None:
    wrong = LINES.replace("Walls\\stone", "textures/Walls/brick.ptx").replace("shine: 12", "shine: 120")
    rules = {"under": "textures", "ending": ".ptx", "slash": "\\"}
    original, came = _lines(**rules), _lines(wrong.replace("ambient = 0.2 0.3 0.4", "ambient = 0.2 0.3"), **rules)
    sheet, _ = match(original, came, ())
    told = {one.id: one.title for one in sheet.findings}
    assert told.keys() == {"path-colour", "number-shine", "colour-ambient"}
    assert "textures is left out here, .ptx is left out here" in told["path-colour"]
    assert "100 is the most" in told["number-shine"]
    sheet, made = match(original, came, ("paths",))
    assert made.textures() == {"colour": "Walls\\brick"}
    assert next(one for one in sheet.findings if one.id == "path-colour").open is False
    gone, _ = match(_lines(**rules), _lines(LINES.replace("shader", "Xshader"), **rules), ())
    assert [one.id for one in gone.findings] == ["gone-shader"]


@given(st.text(alphabet='ab{}[]"=:;/\\<>&\n\t ,0.1-', max_size=60), st.sampled_from(["lines", "json", "xml"]))
def test_any_text_is_read_or_refused_and_changes_only_what_it_says(text: str, form: str) -> None:
    told = TextForm.model_validate({"form": form, "comments": [";"]})
    try:
        found = entries(text, told)
    except BraeError:
        return
    for one in found:
        assert 0 <= one.start <= one.end <= len(text)
        made = text[: one.start] + one.write("1") + text[one.end :]
        again = [other for other in entries(made, told) if other.start == one.start]
        assert [(other.path, other.value) for other in again] == [(one.path, "1")]
