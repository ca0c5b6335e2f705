"""Layered pictures of image editors: PSD and PSB (Adobe, "File Formats Specification", 2019), by psd-tools."""

from __future__ import annotations

import io
import struct
import zlib
from collections.abc import Collection
from typing import Any

import numpy as np
from PIL import Image

from brae.core.assets.texture.formats import LARGEST_SIDE, Picture
from brae.core.assets.texture.layers import Layer, flattened
from brae.core.errors import FormatError, LimitError

MAGIC = b"8BPS"
#: the header: signature, version, six zeros, channels, height, width, bits, colour mode
_HEADER = struct.Struct(">4sH6xHIIHH")
_GREY, _INDEXED, _RGB = 1, 2, 3
_MODES = {_GREY: "grey", _INDEXED: "indexed", _RGB: "RGB"}
#: pixels of all layers together, and layers, that are laid over each other
_MOST_PIXELS, _MOST_LAYERS = 1 << 28, 1000
#: what psd-tools raises where a file is damaged
_DAMAGE = (
    OSError, ValueError, EOFError, struct.error, IndexError, KeyError, TypeError, AttributeError, AssertionError,
    RuntimeError, OverflowError, MemoryError, zlib.error,
)  # fmt: skip


def read(data: bytes, without: Collection[str] = ()) -> tuple[Picture, str, bool, int]:
    """The picture, (height, width, 4) of 8 or 16 bits, what it is in words, whether it has alpha, and the bits.

    Layers that are nothing but pixels are laid over each other, without those that are called as in ``without``; of
    all others it is the merged picture that the editor saved. Raises FormatError for damage and for colours other
    than RGB, LimitError for absurd sides.
    """
    if len(data) < _HEADER.size or data[:4] != MAGIC:
        raise FormatError("This is no PSD file, or it is cut short.", remedy="Save it again.")
    _, version, channels, height, width, bits, mode = _HEADER.unpack_from(data)
    if version not in (1, 2) or mode not in _MODES:
        raise FormatError(
            "The PSD file has colours that a game has not (CMYK, Lab, duotone or several channels).",
            remedy="Change it to RGB in your editor, and save it again.",
        )
    if bits not in (8, 16):
        raise FormatError(f"The PSD file has {bits} bits a channel.", expected="8 or 16", remedy="Save it with 8.")
    if not (0 < width <= LARGEST_SIDE and 0 < height <= LARGEST_SIDE and 0 < channels <= 56):
        raise LimitError(f"The PSD file says {width:,} x {height:,}.", expected=f"sides up to {LARGEST_SIDE:,}")
    try:
        picture, alpha = _pixels(data, without, bits)
    except _DAMAGE as error:
        if isinstance(error, FormatError | LimitError):
            raise
        raise FormatError(f"The PSD file is damaged or not complete ({error}).", remedy="Save it again.") from error
    if picture.shape[:2] != (height, width):
        raise FormatError("The PSD file's picture has other sides than it says.", remedy="Save it again.")
    return picture, f"PSD, {_MODES[mode]}", alpha, bits


def _pixels(data: bytes, without: Collection[str], bits: int) -> tuple[Picture, bool]:
    from psd_tools import PSDImage

    file = PSDImage.open(io.BytesIO(data))
    layers = list(file.descendants())
    if len(layers) > _MOST_LAYERS or sum(_area(layer) for layer in layers) > _MOST_PIXELS:
        raise LimitError("The PSD file has too many layers.", remedy="Merge them, and save it again.")
    guides = [layer for layer in layers if layer.name.lower() in without]
    for layer in guides:
        layer.visible = False
    if bits == 8 and layers and all(_is_plain(layer) for layer in layers if layer.is_visible()):
        # The merged picture is laid over white: what is nearly clear has lost its colours there.
        seen = [layer for layer in reversed(layers) if layer.is_visible() and _area(layer)]
        made = [Layer(one.name, _rgba(one.topil()), one.left, one.top, one.opacity / 255) for one in seen]
        return flattened(made, file.width, file.height), True
    if guides or (layers and not file.has_preview()):
        shown = np.asarray(file.composite(force=True).convert("RGBA"))
        return (shown if bits == 8 else shown.astype(np.uint16) * 257), True
    if layers and bits == 8:
        image = file.topil()
        if image is None:
            raise FormatError("The PSD file holds no merged picture.", remedy="Save it with one, or as PNG.")
        return _rgba(image), image.mode in ("RGBA", "LA", "PA")
    if bits == 8:
        with Image.open(io.BytesIO(data), formats=["PSD"]) as image:
            return _rgba(image), image.mode in ("RGBA", "LA", "PA")
    values = file.numpy()
    if values.shape[-1] in (1, 2):
        values = np.concatenate([np.repeat(values[..., :1], 3, axis=-1), values[..., 1:]], axis=-1)
    alpha = values.shape[-1] >= 4
    if not alpha:
        values = np.concatenate([values[..., :3], np.ones_like(values[..., :1])], axis=-1)
    return np.round(np.clip(values[..., :4], 0, 1) * 65_535).astype(np.uint16), alpha


def _rgba(image: Any) -> Picture:
    return np.asarray(image.convert("RGBA"))


def _is_plain(layer: Any) -> bool:
    """Whether a layer is nothing but pixels that are laid over what is below."""
    return bool(
        layer.kind == "pixel"
        and layer.blend_mode.name == "NORMAL"
        and not (layer.has_mask() or layer.has_vector_mask() or layer.has_effects() or layer.has_clip_layers())
        and not layer.clipping
        and layer.parent.kind == "psdimage"
    )


def _area(layer: Any) -> int:
    return max(0, int(layer.width)) * max(0, int(layer.height))
