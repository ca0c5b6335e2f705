"""``brae align``: the words and phonemes of a voice line with their times."""

from __future__ import annotations

from enum import StrEnum
from pathlib import Path
from typing import Annotated

import typer

from brae.cli.app import FileArgument, HomeOption, JsonOption, app
from brae.cli.output import errors, readable, say


class Language(StrEnum):
    """The language of a sentence."""

    EN = "en"
    OTHER = "other"


@app.command()
def align(
    file: FileArgument,
    text: Annotated[str, typer.Option(help="The sentence; @FILE reads it from a text file.")],
    language: Annotated[
        Language, typer.Option(help="en: by an acoustic model; other: by what can be told of any language.")
    ] = Language.EN,
    out: Annotated[
        Path | None, typer.Option("-o", "--out", help="The track: .TextGrid, .vtt, .json or .csv")
    ] = None,
    home: HomeOption = None,
    as_json: JsonOption = False,
) -> None:
    """Place the words and phonemes of a sentence on the sound in which it is said."""
    from brae.cli.targets import read_target
    from brae.core.assets.sound.sound import Sound
    from brae.core.atomic import write_atomically
    from brae.core.errors import FormatError, NotFoundError
    from brae.core.voices import align as by_model
    from brae.core.voices import plainly
    from brae.core.voices.track import form_of

    with errors(as_json):
        if text.startswith("@"):
            source = Path(text[1:])
            if not source.is_file():
                raise NotFoundError(f"There is no file {source}.", remedy="Check the spelling.")
            text = source.read_text(encoding="utf-8")
        found = read_target(file, home)
        sound = found.kind.read(found.data, found.context) if found.kind is not None else None
        if not isinstance(sound, Sound):
            raise FormatError("This is no sound.", address=file)
        if out is not None:
            form_of(out.suffix)  # a wrong ending is told before anybody waits
        place = by_model.align if language is Language.EN else plainly.align
        track = place(sound.samples, sound.rate, text)
        if out is not None:
            write_atomically(out, form_of(out.suffix)(track).encode())
        lines = [f"{'start':>8} {'end':>8}  word"]
        for word in track.words:
            codes = " ".join(one.code for one in word.phonemes)
            lines.append(f"{word.start:>8.3f} {word.end:>8.3f}  {word.text}  ({codes})")
        say(track.as_dict(), readable("\n".join(lines)), as_json)
        for note in track.notes:
            typer.echo(readable(f"brae: {file}: {note}"), err=True)
