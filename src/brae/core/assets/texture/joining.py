"""Textures joined with the larger levels that lie elsewhere: as a layout that a person keeps."""

from __future__ import annotations

import glob
from collections.abc import Iterator, Sequence

import yaml

from brae.core.assets.texture import dds
from brae.core.assets.texture.stub import FREE_WORDS, Stub, word_at
from brae.core.assets.texture.texture import Header
from brae.core.errors import FormatError
from brae.core.layouts.expressions import field_names
from brae.core.layouts.library import Library


def pattern_of(own: str, other: str) -> str:
    """How the name of the other half is made of a texture's name; the name itself where nothing of it is in it."""
    path = own.rpartition(".")[0] if "." in own.rpartition("/")[2] else own
    folder, _, stem = path.rpartition("/")
    escaped = other.replace("{", "{{").replace("}", "}}")
    if path in escaped:
        return escaped.replace(path, "{path}", 1)
    if folder and folder in escaped and stem in escaped.replace(folder, "", 1):
        return escaped.replace(folder, "{folder}", 1).replace(stem, "{stem}", 1)
    at = escaped.rfind(stem)
    return escaped if at < 0 or not stem else escaped[:at] + "{stem}" + escaped[at + len(stem) :]


def joining_layout(
    data: bytes, stub: Stub, library: Library, identifier: str, names: Sequence[str], pattern: str, *,
    smallest_first: bool = False, at: str = "",
) -> str:  # fmt: skip
    """A layout for textures of those names whose larger levels lie in ``pattern``, as YAML text.

    ``at``: where in it they begin, a sum over the header's fields; "" where they are all of it. Raises FormatError
    for a file type of which no layout can be made.
    """
    elsewhere: dict[str, object] = {"name": pattern}
    if at:
        elsewhere["at"] = at
    if smallest_first:
        elsewhere["smallest_first"] = True
    if stub.above:
        elsewhere["above"] = stub.above
    if data[: len(dds.MAGIC)] == dds.MAGIC:
        parts = list(_dds_parts(data, stub.header, elsewhere))
        title, more = "DDS with its larger levels elsewhere", {}
    else:
        layout = library.recognise(stub.name, data[:512], "texture", size=len(data))
        if layout is None:
            raise FormatError("No layout describes this texture.", address=stub.name)
        kept = layout.model_dump(mode="json", by_alias=True, exclude_unset=True)
        title = f"{layout.title}, its larger levels elsewhere"
        parts = kept["parts"]
        for part in parts:
            if "pixels" in part:
                part["elsewhere"] = elsewhere
        more = {
            key: value for key, value in kept.items() if key not in ("layout", "title", "kind", "match", "parts")
        }
    whole = {
        "layout": identifier, "title": title, "kind": "texture",
        "match": {"names": [glob.escape(name) for name in names]}, **more, "parts": parts,
    }  # fmt: skip
    return str(yaml.safe_dump(whole, sort_keys=False, allow_unicode=True, width=110))


def _dds_parts(data: bytes, header: Header, elsewhere: dict[str, object]) -> Iterator[dict[str, object]]:
    """A DDS header (DDS_HEADER, Microsoft) in the words of the layout language."""
    longer = data[84:88] == b"DX10"
    yield {"field": "magic", "type": "bytes", "length": 4, "value": "DDS "}
    yield {"field": "begin", "type": "bytes", "length": 8}
    yield {"field": "height", "type": "u32"}
    yield {"field": "width", "type": "u32"}
    yield {"field": "pitch", "type": "bytes", "length": 8}
    yield {"field": "levels", "type": "u32"}
    place, end = 32, 128 + (20 if longer else 0)
    for word in FREE_WORDS if "at" in elsewhere else ():
        if word_at(word) in field_names(str(elsewhere["at"])):
            if word > place:
                yield {"field": f"before_{word}", "type": "bytes", "length": word - place}
            yield {"field": word_at(word), "type": "u32"}
            place = word + 4
    yield {"field": "rest", "type": "bytes", "length": end - place}
    facts = {"width": "width", "height": "height", "format": header.format.name, "mips": "levels"}
    if header.colour is not None:
        facts["colour"] = header.colour
    yield {"pixels": "pixels", "facts": facts, "elsewhere": elsewhere}


def same_layout(data: bytes, header: Header, like: bytes, like_header: Header) -> bool:
    """Whether one layout made for a texture reads another one as well: the same file type, and pixel format."""
    is_dds = data[:4] == dds.MAGIC
    if is_dds != (like[:4] == dds.MAGIC):
        return False
    if not is_dds:
        return header.container == like_header.container
    return header.format.name == like_header.format.name and (data[84:88] == b"DX10") == (like[84:88] == b"DX10")
