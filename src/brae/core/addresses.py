"""Addresses: one string that names an item at any depth.

``harbour.kist//textures/boat/sail.ptx`` is the member ``textures/boat/sail.ptx`` of the file ``harbour.kist``.
Labels are joined by ``//``. Inside a label the characters that would confuse a reader (control characters,
``%``, ``@``, a backslash, an empty or dotted path step) are percent-encoded as UTF-8 (RFC 3986 section 2.1), so
that every name, however hostile, has exactly one address and every address one name. The second member of
the same name ends in ``@2``.
"""

from __future__ import annotations

import hashlib
import re
from collections import Counter
from collections.abc import Callable, Collection, Sequence
from urllib.parse import unquote_to_bytes

SEPARATOR = "//"
_UNSAFE = re.compile(r"[\x00-\x1f\x7f-\x9f%@\\:\ud800-\udfff]")
# Names that Windows keeps for devices (Microsoft, "Naming Files, Paths, and Namespaces").
_DEVICE = re.compile(r"^(con|prn|aux|nul|com[0-9]|lpt[0-9])(\.|$)", re.IGNORECASE)
_STRETCH = re.compile(r"(.+)@(\d+)\+(\d+)", re.DOTALL)
_PLAIN = re.compile(r"^[A-Za-z0-9_\-][A-Za-z0-9_\-. ]*(/[A-Za-z0-9_\-][A-Za-z0-9_\-. ]*)*$")


def _quote(text: str) -> str:
    return "".join(f"%{byte:02X}" for byte in text.encode("utf-8", "surrogateescape"))


def _quote_step(step: str) -> str:
    if step == "":
        return "%"  # alone, so that it cannot be mistaken for an encoded character
    return "%2E" * len(step) if step in (".", "..") else step


def quote(name: str) -> str:
    """Write one member's name as one label of an address."""
    if _PLAIN.match(name):
        return name
    quoted = _UNSAFE.sub(lambda found: _quote(found.group()), name)
    return "/".join(_quote_step(step) for step in quoted.split("/"))


def unquote(label: str) -> str:
    """The member's name that ``quote`` was given (without its ``@`` number)."""
    steps = re.sub(r"@\d+$", "", label).split("/")
    return "/".join(
        "" if step == "%" else unquote_to_bytes(step).decode("utf-8", "surrogateescape") for step in steps
    )


def labels_of(names: Sequence[str]) -> list[str]:
    """One label for each name, in order; repeated names are numbered from 2 by ``@2``, ``@3`` ..."""
    labels = [quote(name) for name in names]
    if len(set(labels)) == len(labels):
        return labels
    seen: Counter[str] = Counter()
    for index, label in enumerate(labels):
        seen[label] += 1
        if seen[label] > 1:
            labels[index] = f"{label}@{seen[label]}"
    return labels


def join(*labels: str) -> str:
    """Join labels that are already quoted."""
    return SEPARATOR.join(labels)


def stretch(item: str, start: int, length: int) -> str:
    """Some of an item's bytes, as an address or a name of its own: ``streams/all.bin@4096+32768``."""
    return f"{item}@{start}+{length}"


def split_stretch(text: str) -> tuple[str, int | None, int]:
    """The item of a stretch, where it begins and its length; the item alone (None, 0) where it is all of it."""
    found = _STRETCH.fullmatch(text)
    return (text, None, 0) if found is None else (found[1], int(found[2]), int(found[3]))


def renamed(text: str, name: Callable[[str], str]) -> str:
    """The same stretch of an item that is called otherwise: by its address, by its name."""
    item, start, length = split_stretch(text)
    return name(text) if start is None else stretch(name(item), start, length)


def split(address: str) -> list[str]:
    """The labels of an address, outermost first."""
    return address.split(SEPARATOR)


def safe_path(label: str) -> str:
    """A relative path for the file system that mirrors ``label`` and cannot leave its folder.

    Characters that Windows refuses and device names are percent-encoded, so the mapping stays one to one.
    """
    steps = []
    for step in label.split("/"):
        step = re.sub(r'[<>"|?*:\\]', lambda found: _quote(found.group()), step)
        if step.endswith((".", " ")):
            step = step[:-1] + _quote(step[-1])
        if _DEVICE.match(step):
            step = f"%{ord(step[0]):02X}{step[1:]}"
        steps.append(step)
    return "/".join(steps)


#: bytes of one step of a path, so that an ending, a number and a program's own additions still fit into 255
_LONGEST_STEP = 200


def short_path(path: str) -> str:
    """The same path with steps that any file system can hold; what is cut becomes a hash of the step."""
    return "/".join(
        step
        if len(step.encode("utf-8", "surrogateescape")) <= _LONGEST_STEP
        else f"{step[:40]}~{hashlib.sha256(step.encode('utf-8', 'surrogateescape')).hexdigest()[:12]}"
        for step in path.split("/")
    )


def exchange_path(address: str, kind: str, taken: Collection[str]) -> str:
    """The relative path of an item's file in the exchange folder: it mirrors the address, ending in ``.kind``.

    What ends so by itself gets no second ending.
    ``taken`` are the paths of other items. Paths that differ from one of them in letter case only (one file on many
    systems), or where one would be the other's folder, get ``~`` and a number.
    """
    steps = [step for label in split(address) for step in short_path(safe_path(label)).split("/")]
    files = {path.casefold() for path in taken}
    folders = {path[:place] for path in files for place, char in enumerate(path) if char == "/"}
    path = ""
    for step in steps[:-1]:
        path = _free(f"{path}{step}", "", files) + "/"
    return _free(f"{path}{without_ending(steps[-1], f'.{kind}')}", f".{kind}", files | folders)


def without_ending(name: str, ending: str) -> str:
    """A name without an ending that it has, in whatever letters; at least one character stays."""
    return name[: -len(ending)] if len(name) > len(ending) and name.lower().endswith(ending) else name


def _free(stem: str, ending: str, taken: Collection[str]) -> str:
    """A name that is not taken, with ``~`` and a number where it has to be."""
    number, candidate = 1, f"{stem}{ending}"
    while candidate.casefold() in taken:
        number += 1
        candidate = f"{stem}~{number}{ending}"
    return candidate
