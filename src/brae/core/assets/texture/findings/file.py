"""Findings of the file itself: how it was packed, what else it holds, how it is called."""

from __future__ import annotations

from collections.abc import Iterator

from brae.core.assets.sheet import Finding
from brae.core.assets.texture.findings.compared import Compared


def kind_of_file(edit: Compared) -> Iterator[Finding]:
    image = edit.image
    if image.lossy is not None and edit.original.header.container not in ("webp", "tiff"):
        yield Finding(
            id="lossy-file",
            severity="shows",
            title=f"The file was packed with loss ({image.lossy})",
            in_game="What was lost shows. Save it without loss, or as PNG.",
        )
    if image.pictures > 1 and image.type not in ("dds", "ktx2"):
        more = image.pictures - 1
        yield Finding(
            id="more-pictures",
            severity="shows",
            title=f"The file holds {more:,} more {'picture' if more == 1 else 'pictures'}; the first one is taken",
            in_game="Layers, pages or frames that lie behind the first are not in the game.",
        )
    if image.type in ("jpeg", "gif"):
        lost = "fine detail and all transparency" if image.type == "jpeg" else "all but 256 colours and soft edges"
        yield Finding(
            id="file-type",
            severity="shows",
            title=f"{image.type.upper()} files lose {lost}",
            in_game="The loss is visible. Save as PNG instead.",
        )
    suffix = edit.name.rpartition(".")[2].lower()
    names = {"jpg": "jpeg", "tif": "tiff"}
    if "." in edit.name and names.get(suffix, suffix) != image.type:
        yield Finding(
            id="file-name",
            severity="note",
            title=f"The name ends in .{suffix}, the file is a {image.type.upper()}",
            in_game="Brae goes by what is in the file.",
        )


def appended(edit: Compared) -> Iterator[Finding]:
    """What an editor wrote behind the picture makes a file larger and says nothing."""
    if edit.image.appended:
        yield Finding(
            id="appended",
            severity="note",
            title=f"{edit.image.appended:,} bytes stand behind the picture in the file",
            in_game="Some editors append notes or a footer of their own. They are left out; the picture is whole.",
        )
