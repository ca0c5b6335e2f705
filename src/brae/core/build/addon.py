"""An archive of its own that holds nothing but what is new, made like one of the game's."""

from __future__ import annotations

from collections.abc import Mapping

from brae.core.containers.base import Container
from brae.core.errors import LayoutError
from brae.core.layouts.edits import Edits, NewMember
from brae.core.layouts.segments import Composed


def add_on(like: Container, members: Mapping[str, bytes], levels: Mapping[str, int | None]) -> Composed:
    """The archive ``like`` with these members only, by name; ``levels`` are the packing levels of their originals.

    A member that ``like`` has is packed as it is there. Raises LayoutError where its structure does not let members
    be taken out.
    """
    known = {name: index for index, name in enumerate(like.names)}
    edits = Edits(removed=set(range(len(like))))
    for name, data in members.items():
        index = known.get(name)
        if index is None:
            edits.added.append(NewMember(name, like.pack_new(name, data, levels.get(name))))
        else:
            edits.removed.discard(index)
            edits.changed[index] = like.pack(index, data, levels.get(name))
    try:
        return like.rebuild(edits)
    except LayoutError as error:
        raise LayoutError(f"No add-on can be made like {like.title}: {error.message}") from None
