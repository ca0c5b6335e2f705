"""Words about sounds: loudness."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from brae.cli.app import HomeOption, JsonOption, app
from brae.cli.output import errors, readable, say

if TYPE_CHECKING:
    from collections.abc import Iterator

    from brae.core.find.folder import HeldItem


@app.command()
def loudness(
    files: Annotated[
        list[str], typer.Argument(help="Sounds, folders or archives (inside archives: FILE//MEMBER).")
    ],
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """How loud sounds are: LUFS of the whole and of the loudest part, and the true peak."""
    from dataclasses import asdict

    from brae.core.assets.registry import kinds
    from brae.core.assets.sound.measured import of_sound
    from brae.core.assets.sound.sound import Sound
    from brae.core.errors import BraeError

    with errors(as_json):
        found: list[dict[str, Any]] = []
        faults: list[dict[str, Any]] = []
        for one in _sounds(files, home):
            try:
                sound = kinds()[one.item.kind].read(*one.read())
                assert isinstance(sound, Sound)
                told = asdict(of_sound(sound))
                more = {"seconds": round(sound.seconds, 3), "rate": sound.rate, "channels": sound.channels}
                found.append({"address": one.address} | told | more)
            except BraeError as error:
                faults.append(error.at(one.address).as_dict())
        lines = [f"{'LUFS':>7} {'0.4 s':>7} {'3 s':>7} {'dBTP':>7} {'seconds':>9}  sound"]
        for line in found:
            names = ("integrated", "momentary", "short_term", "true_peak")
            numbers = " ".join(f"{_number(line[name]):>7}" for name in names)
            lines.append(f"{numbers} {line['seconds']:>9.3f}  {line['address']}")
        lines += [f"brae: {fault['address']}: {fault['message']}" for fault in faults]
        say({"sounds": found, "faults": faults}, readable("\n".join(lines)), as_json)


def _number(value: float | None) -> str:
    return "-" if value is None else f"{value:.1f}"


def _sounds(files: list[str], home: Path | None) -> Iterator[HeldItem]:
    from brae.cli.targets import held_in

    for file in files:
        for one in held_in(file, home):
            if one.item.kind == "sound":
                yield one
