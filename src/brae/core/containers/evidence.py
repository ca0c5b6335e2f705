"""What speaks for a description being right, beside the proof.

A rebuild that equals the original proves that nothing is lost. It does not prove that names belong to their data:
with names one record off every byte comes back as well, and a person edits the wrong member. What the file itself
says about the pairing is gathered here, and green means both.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Sequence
from dataclasses import asdict, dataclass
from pathlib import PurePosixPath
from typing import Any, Literal

import numpy as np

from brae.core.containers.base import Container, Progress, Proof
from brae.core.containers.described import Archive
from brae.core.containers.follows import unexplained
from brae.core.containers.why import explained
from brae.core.layouts.heads import outer

#: what files of these endings begin with: PNG 3rd ed. 5.2, DDS and BMP (Microsoft), RFC 1952, RFC 9639, RFC 3533,
#: RIFF, JPEG (ITU T.81), GIF89a, APPNOTE.TXT 4.3.7, KTX 2.0, OpenType 1.9, glTF 2.0 (binary)
_BEGINNINGS: dict[str, tuple[bytes, ...]] = {
    "png": (b"\x89PNG",), "dds": (b"DDS ",), "bmp": (b"BM",), "gz": (b"\x1f\x8b",), "flac": (b"fLaC",),
    "ogg": (b"OggS",), "wav": (b"RIFF",), "jpg": (b"\xff\xd8\xff",), "jpeg": (b"\xff\xd8\xff",), "gif": (b"GIF8",),
    "zip": (b"PK\x03\x04", b"PK\x05\x06"), "ktx2": (b"\xabKTX",), "ktx": (b"\xabKTX",), "otf": (b"OTTO",),
    "ttf": (b"\x00\x01\x00\x00", b"true"), "glb": (b"glTF",), "webp": (b"RIFF",), "avi": (b"RIFF",),
    "mid": (b"MThd",), "xml": (b"<", b"\xef\xbb\xbf<"), "json": (b"{", b"["),
}  # fmt: skip
_LOOKED_AT = 8
#: at most so many members are looked at, spread over all
_MOST = 4000
#: a pairing is better than the written one only if it explains so much more, in parts of all members
_CLEARLY = 0.25
_FEW = 4


@dataclass(frozen=True)
class Evidence:
    """One thing that the file says about its description: for it, against it, or nothing either way."""

    id: str
    speaks: Literal["for", "against", "nothing"]
    words: str

    def as_dict(self) -> dict[str, Any]:
        """For JSON."""
        return asdict(self)


def state(proof: Proof, found: Sequence[Evidence]) -> Literal["proved", "beginning"]:
    """Whether a description is proved: its rebuild is exact, and nothing contradicts it."""
    return (
        "proved"
        if proof.exact and proof.scope is None and all(one.speaks != "against" for one in found)
        else "beginning"
    )


def judge(container: Container, progress: Progress | None = None) -> tuple[Proof, list[Evidence]]:
    """The proof, with what would explain a difference, and the evidence beside it."""
    proof = container.prove(progress)
    if isinstance(container, Archive):
        proof = explained(container, proof)
    return proof, gather(container)


def gather(container: Container) -> list[Evidence]:
    """What a described archive's members say: how they tile the file, and whether names fit their data.

    Open containers are read as their standards say, so nothing is asked about them.
    """
    if not len(container) or not isinstance(container, Archive):
        return []
    return [*_tiling(container), *_names(container), *_stale(container)]


def _stale(container: Archive) -> list[Evidence]:
    """Numbers that are kept as they are, and that would be wrong after an edit."""
    return [
        Evidence(
            f"follows-{field}",
            "against",
            f"'{field}' is kept as it is, but in every record it is the same sum: it would be wrong after an edit. "
            f"Add to it: {line}",
        )
        for field, line in unexplained(container)
    ]


def _tiling(container: Archive) -> list[Evidence]:
    laid = outer(container.directory)
    offsets, sizes = laid.offsets, laid.stored
    filled = sizes > 0
    starts, ends = offsets[filled], (offsets + sizes)[filled]
    if len(starts) < 2:
        return []
    pairs = np.unique(np.stack([starts, ends], axis=1), axis=0)  # what several records share counts once
    overlaps = np.flatnonzero(pairs[1:, 0] < np.maximum.accumulate(pairs[:, 1])[:-1])
    if len(overlaps):
        at = int(pairs[overlaps[0] + 1, 0])
        words = f"{len(overlaps):,} members begin inside the data of others, the first at {at:,}."
        return [Evidence("tiling", "against", words)]
    gaps = pairs[1:, 0] - pairs[:-1, 1]
    lost = int(gaps.sum())
    whole = int(pairs[-1, 1] - pairs[0, 0])
    if not lost:
        words = "The members lie one behind the other, without a gap and without an overlap."
        return [Evidence("tiling", "for", words)]
    if lost > whole // 2 and int(gaps.max()) > 4096:
        words = f"Between the members lie {lost:,} bytes that belong to none, of {whole:,}."
        return [Evidence("tiling", "nothing", words)]
    words = f"The members do not overlap; {lost:,} bytes lie between them, as padding does."
    return [Evidence("tiling", "for", words)]


def _endings(container: Container, indices: np.ndarray[Any, Any]) -> list[str]:
    return [PurePosixPath(container.names[index].lower()).suffix.lstrip(".") for index in indices.tolist()]


def _fits(head: bytes, ending: str) -> bool | None:
    """Whether a beginning is one of its ending; None where that ending says nothing, or there is no data."""
    known = _BEGINNINGS.get(ending)
    if known is None or not head:
        return None
    return head.lstrip().startswith(known) if ending in ("xml", "json") else head.startswith(known)


def _names(container: Container) -> list[Evidence]:
    """Whether names and data belong together: by known beginnings, and by what files of one ending share.

    Both are tried with the names moved by one record to either side as well.
    """
    count = len(container)
    if count < _FEW or all(name.rpartition("/")[2].isdigit() for name in container.names[:50]):
        return []
    # Neighbours are needed, so runs of members are looked at rather than single ones.
    indices = np.arange(count)
    if count > _MOST:
        runs = np.linspace(0, count - 40, _MOST // 40).astype(np.int64)
        indices = np.unique((runs[:, None] + np.arange(40)).ravel())
    found = container.beginnings(indices.tolist(), _LOOKED_AT)
    heads = [b"" if isinstance(one, Exception) else one for one in found]
    endings = _endings(container, indices)
    together = _known(heads, endings)
    alike = {shift: _alike(heads, endings, indices, shift) for shift in (-1, 0, 1)}
    result: list[Evidence] = []
    if together[1] >= _FEW:
        right, all_ = together
        if right == all_:
            words = f"All {all_:,} members whose ending says how they begin do begin so."
            result.append(Evidence("beginnings", "for", words))
        elif right < all_ * 0.5:
            shifted = {shift: _known(*_moved(heads, endings, indices, shift)) for shift in (-1, 1)}
            better = [shift for shift, (fit, of) in shifted.items() if of and fit / of > right / all_ + _CLEARLY]
            words = f"Only {right:,} of {all_:,} members begin as their names' endings say"
            words += (
                f"; with the names moved by {better[0]:+} record {shifted[better[0]][0]:,} do." if better else "."
            )
            result.append(Evidence("beginnings", "against", words))
        else:
            words = f"{right:,} of {all_:,} members begin as their names' endings say."
            result.append(Evidence("beginnings", "nothing", words))
    best = max((-1, 1), key=lambda shift: alike[shift])
    if alike[best] > alike[0] + _CLEARLY and not any(one.speaks == "for" for one in result):
        words = (
            f"With the names moved by {best:+} record, {alike[best]:.0%} of the members begin like the others of "
            f"their ending; as it is, {max(alike[0], 0):.0%}."
        )
        result.append(Evidence("pairing", "against", words))
    elif alike[0] > max(alike[-1], alike[1]) + _CLEARLY:
        words = (
            f"{alike[0]:.0%} of the members begin like the others of their ending; with moved names far fewer do."
        )
        result.append(Evidence("pairing", "for", words))
    elif not result:
        result.append(
            Evidence(
                "pairing", "nothing", "Nothing in the members tells whether each has its own name: look at some."
            )
        )
    return result


def _known(heads: Sequence[bytes], endings: Sequence[str]) -> tuple[int, int]:
    """How many of the members whose ending says something fit it, and how many those are."""
    said = [fits for head, ending in zip(heads, endings, strict=True) if (fits := _fits(head, ending)) is not None]
    return sum(said), len(said)


def _moved(
    heads: Sequence[bytes], endings: Sequence[str], indices: np.ndarray[Any, Any], shift: int
) -> tuple[list[bytes], list[str]]:
    """Each member's data with the name of its neighbour, where both are looked at."""
    at = {index: place for place, index in enumerate(indices.tolist())}
    pairs = [(heads[place], endings[at[index + shift]]) for index, place in at.items() if index + shift in at]
    return [head for head, _ in pairs], [ending for _, ending in pairs]


def _alike(heads: Sequence[bytes], endings: Sequence[str], indices: np.ndarray[Any, Any], shift: int) -> float:
    """The part of the members that begin like most others of their ending, above what chance gives; -1: unknown."""
    data, names = _moved(heads, endings, indices, shift)
    groups: dict[str, Counter[bytes]] = defaultdict(Counter)
    for head, ending in zip(data, names, strict=True):
        if head:
            groups[ending][head[:4]] += 1
    several = {ending: heads_ for ending, heads_ in groups.items() if ending and heads_.total() >= _FEW}
    if len(several) < 2:
        return -1.0
    total = sum(one.total() for one in several.values())
    same = sum(one.most_common(1)[0][1] for one in several.values())
    every: Counter[bytes] = sum(several.values(), Counter())
    chance = every.most_common(1)[0][1] / total
    return max(same / total - chance, 0.0) / max(1 - chance, 1e-9) if chance < 1 else -1.0
