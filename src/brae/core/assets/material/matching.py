"""A material that came back beside its original: what of it breaks the rules for paths, numbers and colours."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from brae.core.assets.facts import Value
from brae.core.assets.material.material import Material, MaterialValue, number_of, numbers_in
from brae.core.assets.sheet import Finding, MatchSheet, Property, Remedy
from brae.core.errors import FormatError
from brae.core.layouts.materials import PathRules

REMEDIES = {"paths": "Write the paths as this game reads them"}


def spelt(path: str, rules: PathRules) -> str:
    """A path by the rules: without what is left out, with the right slashes and letters."""
    return path if rules.is_own(path) else rules.written(path)


def put_right(material: Material, remedies: Sequence[str]) -> Material:
    """A material with its remedies applied."""
    if "paths" in remedies:
        for one in material.values():
            if one.sort == "texture" and one.value and spelt(one.value, material.part.paths) != one.value:
                material = material.with_value(one.key, spelt(one.value, material.part.paths))
    return material


def _paths(came: Material, values: Sequence[MaterialValue], remedies: Sequence[str]) -> Iterator[Finding]:
    rules = came.part.paths
    for one in values:
        if one.sort != "texture" or not one.value or spelt(one.value, rules) == one.value:
            continue
        yield Finding(
            id=f"path-{one.role}",
            severity="shows",
            title=f"The {one.role} texture is written as {one.value}: {', '.join(_wrong(one.value, rules))}",
            in_game="The game puts folder and ending to it by itself, finds nothing, and shows its placeholder.",
            remedy=Remedy(id="paths", label=REMEDIES["paths"], applied="paths" in remedies),
        )


def _wrong(path: str, rules: PathRules) -> Iterator[str]:
    low, folder = path.replace("\\", "/").strip("/").lower(), rules.under.strip("/").lower()
    if folder and low.startswith(f"{folder}/"):
        yield f"{rules.under} is left out here"
    if rules.ending and low.endswith(rules.ending.lower()):
        yield f"{rules.ending} is left out here"
    other = "\\" if rules.slash == "/" else "/"
    if other in path or path != path.strip("/\\"):
        yield f"folders are divided by {rules.slash}, with none before the first"
    if rules.case != "as-is" and path != {"lower": path.lower(), "upper": path.upper()}[rules.case]:
        yield f"letters are {rules.case} case here"


def _values(values: Sequence[MaterialValue]) -> Iterator[Finding]:
    for one in values:
        if one.value is None:
            continue
        words = _fault(one)
        if words is not None:
            yield Finding(
                id=f"{one.sort}-{one.role}",
                severity="shows",
                title=f"{one.key} is {one.value}: {words}",
                in_game="The game takes the nearest value it can, or nothing.",
            )


def _fault(one: MaterialValue) -> str | None:
    """What is wrong with a number, a colour or a switch; None where nothing is."""
    assert one.value is not None
    if one.sort in ("number", "switch"):
        try:
            number = number_of(one.value)
        except ValueError:
            return "no number" if one.sort == "number" else "neither yes nor no"
        if number != number:
            return "no number"
        if one.least is not None and number < one.least:
            return f"{one.least:g} is the least"
        if one.most is not None and number > one.most:
            return f"{one.most:g} is the most"
    if one.sort == "colour" and len(numbers_in(one.value)) not in (1, 3, 4):
        return "a colour has three numbers, or four"
    return None


def _gone(original: Material, came: Material) -> Iterator[Finding]:
    had = {one.key: one for one in original.values() if one.value is not None}
    for one in came.values():
        if one.value is None and one.key in had:
            yield Finding(
                id=f"gone-{one.role}",
                severity="shows",
                title=f"{one.key} is gone, and with it the {one.role}",
                in_game="The game takes what it has for materials without it.",
            )


def findings(original: Material | None, came: Material, remedies: Sequence[str] = ()) -> list[Finding]:
    """What breaks the rules in a material and stands not in ``original``, which it was made from, already."""
    before = {} if original is None else {one.key: one.value for one in original.values()}
    new = [one for one in came.values() if one.value is None or before.get(one.key) != one.value]
    told = [*_paths(came, new, remedies), *_values(new)]
    return [*told, *(_gone(original, came) if original is not None else ())]


def sides(material: Material, facts: Mapping[str, Mapping[str, Value]]) -> list[Finding]:
    """Textures whose sides the game does not take beside each other, by the facts of those that are there."""
    rule, found = material.part.sides, []
    known = {
        role: (facts[path].get("width"), facts[path].get("height"))
        for role, path in material.textures().items()
        if path in facts
    }
    whole = {role: pair for role, pair in known.items() if all(isinstance(side, int) for side in pair)}
    colour = whole.get("colour")
    for role, pair in whole.items():
        words = None
        if rule.same and colour is not None and pair != colour:
            words = f"and the colour texture is {colour[0]} x {colour[1]}"
        elif rule.powers and any(int(side or 0) & (int(side or 0) - 1) for side in pair):
            words = "and sides are powers of two here"
        elif rule.most is not None and max(int(side or 0) for side in pair) > rule.most:
            words = f"and {rule.most} is the longest side here"
        if words is not None:
            found.append(
                Finding(
                    id=f"sides-{role}", severity="shows",
                    title=f"The {role} texture is {pair[0]} x {pair[1]}, {words}",
                    in_game="The game refuses it, shrinks it, or lays it over the other one shifted.",
                )
            )  # fmt: skip
    return found


def match(original: Material, came: Material, remedies: Sequence[str]) -> tuple[MatchSheet, Material]:
    """The match sheet of a material that came back, and the material that goes back."""
    made = put_right(came, remedies)
    rows = [
        Property.of(_title(one), one.value or "none", two.value or "none", three.value or "none", matters=False)
        for one, two, three in zip(original.values(), came.values(), made.values(), strict=True)
    ]
    return MatchSheet(properties=rows, findings=findings(original, came, remedies)), made


def _title(one: MaterialValue) -> str:
    return f"{one.role} {one.sort}" if one.sort in ("texture", "colour") else one.role


def set_value(material: Material, key: str, value: str) -> Material:
    """A material with one of its values changed; FormatError where the layout knows no such key."""
    if key not in {*material.part.keys(), *material.part.joined}:
        raise FormatError(f"'{key}' is no value of this material.", expected=", ".join(material.part.keys()))
    return material.with_value(key, value)
