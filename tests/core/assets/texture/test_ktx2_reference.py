"""KTX2 files against ktx-parse (npm), an independent reader and writer of the container, and its Vulkan numbers."""

from __future__ import annotations

import base64
import json
import subprocess
import zlib
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import zstandard

from brae.core.assets.texture import formats, ktx2
from brae.core.assets.texture.encode import encode_levels
from brae.core.assets.texture.texture import Header

ROOT = Path(__file__).parents[4]
LIBRARY = ROOT / "web/node_modules/ktx-parse/dist/index.mjs"
#: Vulkan's name of each format (Vulkan 1.3 specification, "Format Definition"): the first letters are the high bits
NAMES = {
    "rgba4444": "R4G4B4A4_UNORM_PACK16", "bgra4444": "B4G4R4A4_UNORM_PACK16", "rgb565": "R5G6B5_UNORM_PACK16",
    "bgr565": "B5G6R5_UNORM_PACK16", "rgba5551": "R5G5B5A1_UNORM_PACK16", "bgra5551": "B5G5R5A1_UNORM_PACK16",
    "argb1555": "A1R5G5B5_UNORM_PACK16", "r8": "R8_UNORM", "rg8": "R8G8_UNORM", "rgb8": "R8G8B8_UNORM",
    "bgr8": "B8G8R8_UNORM", "rgba8": "R8G8B8A8_UNORM", "bgra8": "B8G8R8A8_UNORM",
    "argb2101010": "A2R10G10B10_UNORM_PACK32", "abgr2101010": "A2B10G10R10_UNORM_PACK32", "r16": "R16_UNORM",
    "r16f": "R16_SFLOAT", "rg16": "R16G16_UNORM", "rg16f": "R16G16_SFLOAT", "rgb16": "R16G16B16_UNORM",
    "rgb16f": "R16G16B16_SFLOAT", "rgba16": "R16G16B16A16_UNORM", "rgba16f": "R16G16B16A16_SFLOAT",
    "r32f": "R32_SFLOAT", "rg32f": "R32G32_SFLOAT", "rgb32f": "R32G32B32_SFLOAT", "rgba32f": "R32G32B32A32_SFLOAT",
    "r11g11b10f": "B10G11R11_UFLOAT_PACK32", "rgb9e5": "E5B9G9R9_UFLOAT_PACK32", "bc1": "BC1_RGBA_UNORM_BLOCK",
    "bc2": "BC2_UNORM_BLOCK", "bc3": "BC3_UNORM_BLOCK", "bc4": "BC4_UNORM_BLOCK", "bc4s": "BC4_SNORM_BLOCK",
    "bc5": "BC5_UNORM_BLOCK", "bc5s": "BC5_SNORM_BLOCK", "bc6h": "BC6H_UFLOAT_BLOCK", "bc6hs": "BC6H_SFLOAT_BLOCK",
    "bc7": "BC7_UNORM_BLOCK",
}  # fmt: skip
SCHEMES = {"none": 0, "zstd": 2, "zlib": 3}
CASES = [(name, scheme) for name in ktx2.FORMATS for scheme in SCHEMES] + [("bc7", "srgb"), ("rgba8", "srgb")]
SHAPES: dict[str, dict[str, Any]] = {
    "cube": {"shape": "cube", "surfaces": 6},
    "array": {"shape": "array", "surfaces": 3},
    "volume": {"shape": "volume", "depth": 4},
}


def _made(name: str, kind: str) -> tuple[Header, list[bytes], bytes]:
    header = Header("ktx2", formats.get(name), 24, 16, 5, colour="srgb" if kind == "srgb" else "linear")
    picture = np.random.default_rng(len(name)).integers(0, 256, (16, 24, 4), np.uint8)
    levels, _, _ = encode_levels(picture, header)
    return header, levels, ktx2.write(header, levels, scheme=kind if kind in SCHEMES else "none")


def _read(files: list[bytes]) -> list[dict[str, Any]]:
    lines = "".join(base64.b64encode(data).decode() + "\n" for data in files)
    command = ["node", str(Path(__file__).with_name("ktx2_reference.mjs")), LIBRARY.as_uri()]
    done = subprocess.run(command, input=lines, capture_output=True, text=True, check=True, timeout=120)
    return [json.loads(line) for line in done.stdout.splitlines()]


@pytest.fixture(scope="module")
def read() -> dict[tuple[str, str], dict[str, Any]]:
    """What the library makes of a file of each format and supercompression."""
    return dict(zip(CASES, _read([_made(*case)[2] for case in CASES]), strict=True))


@pytest.mark.parametrize("case", CASES, ids="-".join)
def test_the_library_reads_what_is_written(
    case: tuple[str, str], read: dict[tuple[str, str], dict[str, Any]]
) -> None:
    (name, kind), found = case, read[case]
    header, levels, _ = _made(name, kind)
    assert found["format"] == "VK_FORMAT_" + NAMES[name].replace("UNORM", "SRGB" if kind == "srgb" else "UNORM")
    assert (found["pixelWidth"], found["pixelHeight"], found["levelCount"]) == (24, 16, 5)
    assert (found["layerCount"], found["faceCount"], found["pixelDepth"]) == (0, 1, 0)
    assert found["supercompressionScheme"] == SCHEMES.get(kind, 0)
    undo = {"zstd": zstandard.decompress, "zlib": zlib.decompress}.get(kind, bytes)
    stored = [base64.b64decode(level["data"]) for level in found["levels"]]
    assert [undo(data) for data in stored] == levels
    assert [level["size"] for level in found["levels"]] == [len(data) for data in levels]
    (descriptor,) = found["dataFormatDescriptor"]
    assert descriptor["transferFunction"] == (2 if kind == "srgb" else 1)
    columns, rows = header.format.block[1], header.format.block[0]
    assert [side + 1 for side in descriptor["texelBlockDimension"][:2]] == [columns, rows]
    bits = sum(sample["bitLength"] + 1 for sample in descriptor["samples"])
    if name != "rgb9e5":  # there the exponent is a sample of every channel
        assert bits == 8 * header.format.block_bytes
    if kind == "none":
        assert descriptor["bytesPlane"][0] == header.format.block_bytes


@pytest.mark.parametrize("case", CASES, ids="-".join)
def test_what_the_library_writes_is_read(
    case: tuple[str, str], read: dict[tuple[str, str], dict[str, Any]]
) -> None:
    _, levels, _ = _made(*case)
    texture = ktx2.read(base64.b64decode(read[case]["anew"]))
    assert (texture.header.format.name, texture.header.width, texture.header.height) == (case[0], 24, 16)
    assert texture.levels == levels
    assert (texture.header.colour == "srgb") == (case[1] == "srgb")


@pytest.mark.parametrize("shape", SHAPES)
def test_several_pictures(shape: str) -> None:
    header = Header("ktx2", formats.RGBA8, 8, 8, 3, **SHAPES[shape])
    sheet = np.random.default_rng(1).integers(0, 256, (8 * header.pictures(), 8, 4), np.uint8)
    levels, _, _ = encode_levels(sheet, header)
    (found,) = _read([ktx2.write(header, levels)])
    counts = (found["layerCount"], found["faceCount"], found["pixelDepth"])
    assert counts == {"cube": (0, 6, 0), "array": (3, 1, 0), "volume": (0, 1, 4)}[shape]
    assert [base64.b64decode(level["data"]) for level in found["levels"]] == levels
    again = ktx2.read(base64.b64decode(found["anew"]))
    assert (again.header.shape, again.levels) == (shape, levels)
