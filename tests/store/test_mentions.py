"""The cache of what items mention: what is kept comes back, and what is damaged or too large harms nothing."""

from __future__ import annotations

import sqlite3
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from brae.core.find.mentions import Mention
from brae.store.mentions import Mentions, key

_MENTIONS = st.lists(
    st.builds(Mention, st.text(), st.integers(0, 1 << 40), st.text(), st.booleans(), st.text()), max_size=5
)


@given(st.dictionaries(st.text(min_size=1), _MENTIONS, max_size=8))
def test_what_is_kept_comes_back(said: dict[str, list[Mention]]) -> None:
    memory = Mentions(Path(":memory:"))
    memory.keep({key(name): its for name, its in said.items()})
    assert memory.of([key(name) for name in said]) == {key(name): its for name, its in said.items()}
    assert memory.of([key("nobody", 1)]) == {}
    memory.close()


def test_what_another_program_wrote_is_as_if_it_were_not_there(tmp_path: Path) -> None:
    memory = Mentions(tmp_path / "m.db")
    its = [Mention("x", 1, "x", True)]
    memory.keep({"a": its, "b": its})
    memory.close()
    with sqlite3.connect(tmp_path / "m.db") as other:
        other.execute("UPDATE mentions SET said = '[[1, 2' WHERE key = 'a'")
    again = Mentions(tmp_path / "m.db")
    assert again.of(["a", "b"]) == {"b": its}
    again.keep({"a": its})
    assert again.of(["a"]) == {"a": its}, "it is written anew"
    again.close()
    (tmp_path / "m.db").write_bytes(b"no database" * 1000)
    anew = Mentions(tmp_path / "m.db")
    anew.keep({"b": []})
    assert anew.of(["a", "b"]) == {"b": []}
    anew.close()


def test_the_oldest_go_where_there_are_too_many(tmp_path: Path) -> None:
    memory = Mentions(tmp_path / "m.db", most=200_000)
    names = [key(number) for number in range(400)]
    for name in names:
        memory.keep({name: [Mention("a" * 1000, 1, "", True)]})
    found = memory.of(names)
    assert names[-1] in found
    assert names[0] not in found
    memory.close()
