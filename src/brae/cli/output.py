"""How commands speak: words for people, JSON for programs, bars on a terminal."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

import typer

from brae.core.errors import BraeError

if TYPE_CHECKING:
    from rich.progress import Progress


def say(data: dict[str, Any], words: str, as_json: bool) -> None:
    """One answer, as JSON or in words."""
    typer.echo(json.dumps(readable(data), ensure_ascii=False) if as_json else readable(words))


def readable(value: Any) -> Any:
    """The same, with bytes of names that are no text (PEP 383) shown as ``\\udc80``: no output can hold them."""
    if isinstance(value, str):
        return value.encode("utf-8", "backslashreplace").decode()
    if isinstance(value, dict):
        return {readable(key): readable(one) for key, one in value.items()}
    return [readable(one) for one in value] if isinstance(value, list | tuple) else value


@contextmanager
def errors(as_json: bool = False) -> Iterator[None]:
    """Brae's own errors become one clear line and an exit code that is not 0."""
    try:
        yield
    except BraeError as error:
        if as_json:
            typer.echo(json.dumps(readable({"error": error.as_dict()}), ensure_ascii=False))
        typer.echo(readable(f"brae: {error}"), err=True)
        raise typer.Exit(error.exit_code) from None


@contextmanager
def bar(title: str, total: int | None) -> Iterator[Callable[[], None]]:
    """A progress bar on a terminal, nothing where the output is piped."""
    if not sys.stderr.isatty():
        yield lambda: None
        return
    from rich.console import Console
    from rich.progress import BarColumn, MofNCompleteColumn, Progress, TextColumn, TimeRemainingColumn

    columns = (TextColumn("{task.description}"), BarColumn(), MofNCompleteColumn(), TimeRemainingColumn())
    with Progress(*columns, console=Console(stderr=True), transient=True) as progress:
        task = progress.add_task(title, total=total)
        yield lambda: progress.advance(task)


class BarTicker:
    """Long work told as a progress bar."""

    def __init__(self, progress: Progress) -> None:
        self._progress = progress
        self._task = progress.add_task("", total=None)

    def begin(self, total: int, unit: str) -> None:
        self._progress.reset(self._task, total=total, description=unit)

    def tick(self, amount: int = 1) -> None:
        self._progress.advance(self._task, amount)

    def say(self, words: str | None = None, result: dict[str, Any] | None = None) -> None:
        if words is not None:
            self._progress.update(self._task, description=words)


@contextmanager
def ticker() -> Iterator[BarTicker | None]:
    """A ticker on a terminal, None where the output is piped."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=True) as progress:
        yield BarTicker(progress)
