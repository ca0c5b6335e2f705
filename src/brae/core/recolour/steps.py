"""Colour steps as data, checked by Pydantic: what they are, and what each does to a picture.

A picture is float32 of shape (height, width, 4), sRGB numbers of 0 to 1 and alpha; no step changes alpha.
"""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import Annotated, Any, Literal

import numpy as np
from pydantic import AfterValidator, BaseModel, ConfigDict, Field, model_validator

from brae.core.recolour.space import Floats, chroma_of, from_lab, hue_of, to_lab, to_light, to_stored

#: below this a colour is grey, and has no hue
_GREY = 0.02
_HEX = re.compile(r"#(?:[0-9a-f]{3}|[0-9a-f]{6})", re.IGNORECASE)
#: a picture's pixels that a step reads: given by the path that a step names
Load = Callable[[str], Floats]


def _is_colour(text: str) -> str:
    if not _HEX.fullmatch(text):
        raise ValueError(f"'{text}' is no colour; write it as '#8a4b2c'")
    return text


Colour = Annotated[str, AfterValidator(_is_colour)]
Part = Annotated[float, Field(ge=0, le=1)]
MapRole = Literal["specular", "smoothness", "roughness", "metallic", "occlusion", "height", "emission"]
Span = Annotated[list[float], Field(min_length=2, max_length=2)]


def numbers_of(colour: str) -> Floats:
    """A colour such as #8a4b2c as numbers of 0 to 1."""
    digits = colour[1:] if len(colour) == 7 else "".join(char * 2 for char in colour[1:])
    return np.array([int(digits[at : at + 2], 16) / 255 for at in (0, 2, 4)], np.float32)


class _Words(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Mask(_Words):
    """Where a step works: everything that is said has to be so. ``soft`` is how wide its borders are."""

    hues: Span | None = Field(None, description="degrees in Oklab: red 29, yellow 110, green 142, blue 264")
    light: Annotated[list[Part], Field(min_length=2, max_length=2)] | None = Field(None, description="lightness")
    alpha: Annotated[list[Part], Field(min_length=2, max_length=2)] | None = None
    picture: str | None = Field(None, description="a picture: white where the step works, beside the steps' file")
    channel: Literal["red", "green", "blue", "alpha", "grey"] = Field("grey", description="of that picture")
    soft: Part = Field(0.05, description="of the lightness or alpha; of hues 360 times as many degrees")
    inverted: bool = False


class Step(_Words):
    """One of them: exactly one kind of change, and where it works."""

    hue: float | None = Field(None, description="degrees by which all hues are turned")
    saturation: Annotated[float, Field(ge=0, le=10)] | None = Field(None, description="times")
    lightness: Annotated[float, Field(ge=-1, le=1)] | None = Field(None, description="added to the lightness")
    levels: Levels | None = None
    curve: Annotated[list[Annotated[list[Part], Field(min_length=2, max_length=2)]], Field(min_length=2)] | None = (
        Field(None, description="points of a curve: [before, after], rising")
    )
    tint: Colour | None = Field(None, description="a hue and its strength for all, at the lightness that is there")
    gradient: list[Colour] | None = Field(None, min_length=2, description="from the darkest to the lightest")
    hues: Hues | None = None
    colours: dict[Colour, Colour] | None = Field(None, description="exactly these colours for others")
    palettes: Palettes | None = None
    like: str | None = Field(None, description="a picture whose colours are taken over, beside the steps' file")
    amount: Part = Field(1.0, description="how much of it; 0 is none")
    of: Literal["stored", "light"] = Field("stored", description="what levels and curves work on")
    mask: Mask | None = None
    maps: dict[MapRole, Part] = Field(
        default_factory=dict,
        description="of the surface's other maps, what this value becomes where the step works: metallic: 1",
    )

    @model_validator(mode="after")
    def _one_change(self) -> Step:
        said = [name for name in CHANGES if getattr(self, name) is not None]
        if len(said) != 1:
            many = f"; this one has {', '.join(said)}" if said else ""
            raise ValueError(f"a step has one of {', '.join(CHANGES)}{many}")
        if self.curve is not None and any(b[0] <= a[0] for a, b in zip(self.curve, self.curve[1:], strict=False)):
            raise ValueError("the points of a curve go from left to right")
        return self


class Levels(_Words):
    """What becomes black and white, and the middle between them (1: as it is, above: lighter)."""

    black: Part = 0.0
    white: Part = 1.0
    gamma: Annotated[float, Field(gt=0.01, le=100)] = 1.0
    darkest: Part = 0.0
    lightest: Part = 1.0

    @model_validator(mode="after")
    def _apart(self) -> Levels:
        if self.white <= self.black:
            raise ValueError("white has to be above black")
        return self


class Hues(_Words):
    """Colours of some hues get another one; greys and all others stay."""

    source: Span = Field(alias="from", description="degrees, from and to; may go over 360")
    to: float
    soft: Annotated[float, Field(ge=0, le=180)] = Field(15.0, description="degrees over which it fades out")


class Palettes(_Words):
    """Every colour of one palette becomes the one at the same place of another; all others stay."""

    source: str = Field(
        alias="from", description="a palette beside the steps: .pal, .txt, or a pixel for each entry"
    )
    to: str

    @property
    def both(self) -> tuple[str, str]:
        """The two palettes."""
        return self.source, self.to


class Steps(_Words):
    """The steps of a file, in order."""

    title: str = ""
    about: str | None = None
    steps: list[Step] = Field(min_length=1, max_length=100)

    @property
    def local(self) -> bool:
        """Whether what becomes of a pixel depends on nothing but that pixel."""
        return not self.named()

    @property
    def by_colour(self) -> bool:
        """Whether what becomes of a pixel depends on nothing but its colour."""
        return self.local and all(step.mask is None or step.mask.alpha is None for step in self.steps)

    @property
    def on_maps(self) -> bool:
        """Whether any step names values of other maps."""
        return any(step.maps for step in self.steps)

    def named(self) -> list[str]:
        """The pictures that the steps name."""
        masks = [step.mask.picture for step in self.steps if step.mask is not None]
        palettes = [step.palettes for step in self.steps if step.palettes is not None]
        names = [*masks, *(step.like for step in self.steps), *(name for one in palettes for name in one.both)]
        return [name for name in names if name is not None]


CHANGES = (
    "hue", "saturation", "lightness", "levels", "curve", "tint", "gradient", "hues", "colours", "palettes", "like",
)  # fmt: skip
Step.model_rebuild()


def reached(steps: Steps, picture: Floats, load: Load) -> list[tuple[dict[MapRole, float], Floats]]:
    """Of each step that names values of other maps: those, and how much of them each pixel gets (height, width)."""
    found: list[tuple[dict[MapRole, float], Floats]] = []
    apply(steps, picture, load, found)
    return found


def apply(
    steps: Steps, picture: Floats, load: Load, reached: list[tuple[dict[MapRole, float], Floats]] | None = None
) -> Floats:
    """A picture after all steps. ``load`` gives the pictures that steps name; see the module for the shape.

    ``reached`` gets what ``reached`` tells.
    """
    result = picture.copy()
    for step in steps.steps:
        before = result[..., :3]
        name = next(name for name in CHANGES if getattr(step, name) is not None)
        after = _DO[name](before, step, load)
        part = np.full(result.shape[:2], step.amount, np.float32)
        if step.mask is not None:
            part = part * _masked(result, step.mask, load)
        if step.maps and reached is not None:
            reached.append((step.maps, part))
        # What a step does not reach keeps its very numbers.
        touched = (part > 0) & (after != before).any(axis=-1)
        mixed = before + (after - before) * part[..., None]
        result[..., :3] = np.where(touched[..., None], mixed, before)
    return result


def _masked(picture: Floats, mask: Mask, load: Load) -> Floats:
    lab = to_lab(picture[..., :3])
    part = np.ones(picture.shape[:2], np.float32)
    if mask.hues is not None:
        near = _near(hue_of(lab), mask.hues, mask.soft * 360)
        part *= np.where(chroma_of(lab) >= _GREY, near, 0)
    for span, values in ((mask.light, lab[..., 0]), (mask.alpha, picture[..., 3])):
        if span is not None:
            part *= _between(values, span, mask.soft)
    if mask.picture is not None:
        part *= fitted(_channel(load(mask.picture), mask.channel), picture.shape)
    return 1 - part if mask.inverted else part


def _between(values: Floats, span: list[float], soft: float) -> Floats:
    """1 within a span, falling to 0 over ``soft`` beyond its ends."""
    beyond = np.maximum(span[0] - values, values - span[1])
    return np.asarray(np.clip(1 - beyond / max(soft, 1e-6), 0, 1), np.float32)


def _near(hues: Floats, span: list[float], soft: float) -> Floats:
    """The same for degrees, which go round."""
    width = (span[1] - span[0]) % 360 if span[1] - span[0] < 360 else 360
    from_start = (hues - span[0]) % 360
    beyond = np.where(from_start <= width, 0, np.minimum(from_start - width, 360 - from_start))
    return np.asarray(np.clip(1 - beyond / max(soft, 1e-6), 0, 1), np.float32)


def _channel(picture: Floats, name: str) -> Floats:
    if name == "grey":
        return np.asarray(to_lab(picture[..., :3])[..., 0])
    return np.asarray(picture[..., ("red", "green", "blue", "alpha").index(name)])


def fitted(mask: Floats, shape: tuple[int, ...]) -> Floats:
    """A mask (height, width) at the size of another picture."""
    import cv2

    if mask.shape == shape[:2]:
        return mask
    resized = cv2.resize(mask, (shape[1], shape[0]), interpolation=cv2.INTER_AREA)
    return np.clip(np.asarray(resized, np.float32), 0, 1)


# ---- what each change does: colours (height, width, 3), the step, and the pictures that it names -----------------


def _hue(colours: Floats, step: Step, _: Load) -> Floats:
    lab, turn = to_lab(colours), np.radians(step.hue or 0)
    green_red, blue_yellow = lab[..., 1].copy(), lab[..., 2].copy()
    lab[..., 1] = green_red * np.cos(turn) - blue_yellow * np.sin(turn)
    lab[..., 2] = green_red * np.sin(turn) + blue_yellow * np.cos(turn)
    return from_lab(lab)


def _saturation(colours: Floats, step: Step, _: Load) -> Floats:
    lab = to_lab(colours)
    lab[..., 1:] *= step.saturation or 0
    return from_lab(lab)


def _lightness(colours: Floats, step: Step, _: Load) -> Floats:
    lab = to_lab(colours)
    lab[..., 0] = np.clip(lab[..., 0] + (step.lightness or 0), 0, 1)
    return from_lab(lab)


def _levels(colours: Floats, step: Step, _: Load) -> Floats:
    assert step.levels is not None
    how = step.levels
    values = to_light(colours) if step.of == "light" else colours
    values = np.clip((values - how.black) / (how.white - how.black), 0, 1) ** (1 / how.gamma)
    values = np.asarray(how.darkest + values * (how.lightest - how.darkest), np.float32)
    return to_stored(values) if step.of == "light" else values


def _curve(colours: Floats, step: Step, _: Load) -> Floats:
    assert step.curve is not None
    values = to_light(colours) if step.of == "light" else colours
    before, after = np.array(step.curve, np.float32).T
    values = np.interp(values, before, after).astype(np.float32)
    return to_stored(values) if step.of == "light" else values


def _tint(colours: Floats, step: Step, _: Load) -> Floats:
    lab = to_lab(colours)
    lab[..., 1:] = to_lab(numbers_of(step.tint or "#000"))[1:]
    return from_lab(lab)


def _gradient(colours: Floats, step: Step, _: Load) -> Floats:
    strip = to_lab(np.stack([numbers_of(colour) for colour in step.gradient or []]))
    places = np.linspace(0, 1, len(strip))
    light = to_lab(colours)[..., 0]
    return from_lab(
        np.stack([np.interp(light, places, strip[:, part]) for part in range(3)], axis=-1).astype(np.float32)
    )


def _hues(colours: Floats, step: Step, _: Load) -> Floats:
    assert step.hues is not None
    how, lab = step.hues, to_lab(colours)
    chroma, part = chroma_of(lab), _near(hue_of(lab), how.source, how.soft)
    part = np.where(chroma >= _GREY, part, 0)
    turned = np.stack([lab[..., 0], chroma * np.cos(np.radians(how.to)), chroma * np.sin(np.radians(how.to))], -1)
    after = from_lab(turned.astype(np.float32))
    return np.asarray(np.where(part[..., None] > 0, colours + (after - colours) * part[..., None], colours))


def _exactly(colours: Floats, step: Step, _: Load) -> Floats:
    result = colours.copy()
    for before, after in (step.colours or {}).items():
        # Half of a step of 8 bits: what is stored so is meant.
        same = (np.abs(colours - numbers_of(before)) < 0.5 / 255).all(axis=-1)
        result[same] = numbers_of(after)
    return result


def _palettes(colours: Floats, step: Step, load: Load) -> Floats:
    assert step.palettes is not None
    before, after = (load(name)[..., :3].reshape(-1, 3) for name in step.palettes.both)
    many = min(len(before), len(after))
    # A colour that stands twice becomes what the first of them does.
    keys, first = np.unique(_eight(before[:many]), return_index=True)
    here = _eight(colours)
    place = np.minimum(np.searchsorted(keys, here), max(len(keys) - 1, 0))
    result = colours.copy()
    if many:
        known = keys[place] == here
        result[known] = after[first[place[known]]]
    return result


def _eight(colours: Floats) -> np.ndarray[Any, np.dtype[np.int64]]:
    """Colours as one number each, of 8 bits a channel."""
    whole = np.round(np.clip(colours, 0, 1) * 255).astype(np.int64)
    return np.asarray(whole[..., 0] << 16 | whole[..., 1] << 8 | whole[..., 2])


def _like(colours: Floats, step: Step, load: Load) -> Floats:
    """Mean and spread of each part in Oklab (E. Reinhard et al., "Color transfer between images", 2001)."""
    other = load(step.like or "")
    wanted = to_lab(other[..., :3][other[..., 3] > 0])
    lab = to_lab(colours)
    if not len(wanted):
        return colours
    flat = lab.reshape(-1, 3)
    spread = np.where(flat.std(axis=0) > 1e-6, wanted.std(axis=0) / np.maximum(flat.std(axis=0), 1e-6), 1)
    return from_lab(np.asarray((lab - flat.mean(axis=0)) * spread + wanted.mean(axis=0), np.float32))


_DO: dict[str, Callable[[Floats, Step, Load], Floats]] = {
    "hue": _hue, "saturation": _saturation, "lightness": _lightness, "levels": _levels, "curve": _curve,
    "tint": _tint, "gradient": _gradient, "hues": _hues, "colours": _exactly, "palettes": _palettes, "like": _like,
}  # fmt: skip


def schema() -> dict[str, Any]:
    """The JSON schema of a file of steps."""
    return Steps.model_json_schema(by_alias=True)
