"""Block compression beside the reference libraries, on the same pictures, in one run."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable, Sequence
from typing import get_args

import etcpak
import numpy as np
import quicktex
import quicktex.s3tc.bc1
import quicktex.s3tc.bc3
import quicktex.s3tc.bc4
import quicktex.s3tc.bc5
import skimage.data
from PIL import Image, ImageDraw

from benchmarks.report import best, in_turn, report
from benchmarks.sorts import sorts
from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
from brae.core.assets.texture.formats import Effort, How, PixelFormat

SIDE = 1024
Picture = np.ndarray


def pictures() -> dict[str, Picture]:
    """A photograph (scikit-image's), a noisy gradient with soft alpha, flat shapes with hard alpha."""
    rng = np.random.default_rng(1)
    photo = Image.fromarray(skimage.data.astronaut()).resize((SIDE, SIDE), Image.Resampling.LANCZOS)
    y, x = np.mgrid[0:SIDE, 0:SIDE] / (SIDE - 1)
    waves = (x, 0.5 + 0.5 * np.sin(6 * np.pi * x * y), y, 0.5 + 0.5 * np.cos(4 * np.pi * x + 2 * np.pi * y))
    gradient = np.clip(np.rint(255 * np.stack(waves, -1) + rng.normal(0, 6, (SIDE, SIDE, 4))), 0, 255)
    shapes = Image.new("RGBA", (SIDE, SIDE), (0, 0, 0, 0))
    draw = ImageDraw.Draw(shapes)
    for _ in range(220):
        left, top = (int(v) for v in rng.integers(0, SIDE, 2))
        radius, solid = int(rng.integers(8, 90)), rng.random() < 0.75
        fill = (*(int(v) for v in rng.integers(0, 256, 3)), 255) if solid else (0, 0, 0, 0)
        draw.ellipse(
            (left - radius, top - radius, left + radius, top + radius),
            fill=fill,
            outline=(20, 16, 24, 255) if solid else None,
            width=3,
        )
    return {
        "photo": np.dstack([np.asarray(photo), np.full((SIDE, SIDE), 255, np.uint8)]),
        "gradient": gradient.astype(np.uint8),
        "shapes": np.asarray(shapes).copy(),
    }


def _psnr(a: Picture, b: Picture, channels: int) -> float:
    """Over what is seen: the colour of clear pixels does not count."""
    seen = a[..., 3] > 0
    error = (a.astype(float) - b) ** 2
    error[~seen, :3] = 0
    return float(10 * np.log10(255**2 / max(error[..., :channels].mean(), 1e-9)))


def _quick(encoder: object, picture: Picture) -> Callable[[], bytes]:
    raw = quicktex.RawTexture.frombytes(picture.tobytes(), SIDE, SIDE)
    return lambda: bytes(encoder.encode(raw))  # type: ignore[attr-defined]


def _bc7_library(picture: Picture, effort: int) -> Callable[[], bytes]:
    settings = etcpak.BC7CompressBlockParams()
    settings.init_linear_weights()
    settings.m_uber_level, settings.m_max_partitions = effort, 64
    data = picture.tobytes()
    return lambda: etcpak.compress_bc7(data, SIDE, SIDE, settings)


def _measure(
    pixel_format: PixelFormat,
    picture: Picture,
    encoders: Sequence[Callable[[], bytes]],
    channels: int,
) -> list[tuple[float, float]]:
    """For each encoder its seconds, and PSNR in dB by our own decoder."""
    quality = [_psnr(picture, pixel_format.decode(encode(), SIDE, SIDE), channels) for encode in encoders]
    return list(zip(in_turn(encoders), quality, strict=True))


def run() -> None:
    """Print all ratios."""
    found = pictures()
    for name, picture in found.items():
        opaque = picture.copy()
        opaque[..., 3] = 255
        _decoding(name, picture)
        bc1, bc3 = quicktex.s3tc.bc1.BC1Encoder, quicktex.s3tc.bc3.BC3Encoder
        four = bc1.ColorMode.FourColor
        _against(f"BC1 {name}", formats.BC1, opaque, _quick(bc1(5, four), opaque), _quick(bc1(10, four), opaque), 3)
        _against(f"BC3 {name}", formats.BC3, picture, _quick(bc3(5), picture), _quick(bc3(10), picture), 3)
        _best_of(name, picture)
        _bc7(name, picture)
    _six_sorts()
    _large(found)
    _memory()


def _decoding(name: str, picture: Picture) -> None:
    for number, pixel_format, mode in (
        (1, formats.BC1, "RGBA"), (3, formats.BC3, "RGBA"), (4, formats.BC4, "L"), (5, formats.BC5, "RGB"),
        (7, formats.BC7, "RGBA"),
    ):  # fmt: skip
        data = pixel_format.encode(picture, How(effort="fast"))
        ours, theirs = in_turn(
            [
                lambda f=pixel_format, d=data: f.decode(d, SIDE, SIDE),  # type: ignore[misc]
                lambda m=mode, n=number, d=data: np.asarray(Image.frombytes(m, (SIDE, SIDE), d, "bcn", n)),  # type: ignore[misc]
            ],
        )
        least = 1.3 if number == 7 else 1.0
        ratio = theirs / ours
        report(
            f"{pixel_format.title} decoding ({name}) against Pillow",
            f"{ratio:.2f} x",
            f"at least {least} x",
            ratio >= least,
        )


def _against(
    what: str,
    pixel_format: PixelFormat,
    picture: Picture,
    quick: Callable[[], bytes],
    careful: Callable[[], bytes],
    channels: int,
) -> None:
    ours, fast, slow = _measure(
        pixel_format, picture, [lambda: pixel_format.encode(picture), quick, careful], channels
    )
    ratio, gain = fast[0] / ours[0], ours[1] - slow[1]
    report(
        f"{what}: speed against quicktex 5, quality against its 10",
        f"{ratio:.2f} x, {gain:+.2f} dB",
        "at least 3 x, -0.15 dB",
        ratio >= 3 and gain >= -0.15,
    )


def _best_of(name: str, picture: Picture) -> None:
    grey = np.repeat(picture[..., :1], 4, axis=2)
    grey[..., 3] = 255
    for pixel_format, source, channels, others in (
        (
            formats.BC4,
            grey,
            1,
            [
                _quick(quicktex.s3tc.bc4.BC4Encoder(0), grey),
                lambda: etcpak.compress_bc4(grey.tobytes(), SIDE, SIDE),
            ],
        ),
        (
            formats.BC5,
            picture,
            2,
            [
                _quick(quicktex.s3tc.bc5.BC5Encoder(0, 1), picture),
                lambda: etcpak.compress_bc5(picture.tobytes(), SIDE, SIDE),
            ],
        ),
    ):
        opaque = source.copy()
        opaque[..., 3] = 255
        mine = lambda f=pixel_format, s=source: f.encode(s)  # type: ignore[misc]  # noqa: E731
        ours, *theirs = _measure(pixel_format, opaque, [mine, *others], channels)
        gain = ours[1] - max(quality for _, quality in theirs)
        ratio = min(seconds for seconds, _ in theirs) / ours[0]
        report(
            f"{pixel_format.title} {name}: quality against the best library",
            f"{gain:+.2f} dB ({ratio:.2f} x the speed of the fastest)",
            "not below",
            gain >= -0.005,
        )


def _bc7(name: str, picture: Picture) -> None:
    efforts = [How(effort=effort) for effort in ("fast", "normal", "high")]
    encoders = [lambda h=how: formats.BC7.encode(picture, h) for how in efforts]  # type: ignore[misc]
    encoders += [_bc7_library(picture, effort) for effort in (0, 2, 4)]
    measured = _measure(formats.BC7, picture, encoders, 4)
    ours, libraries = measured[:3], measured[3:]
    best_quality = max(quality for _, quality in libraries)
    fastest = min(seconds for seconds, quality in libraries if quality > best_quality - 0.5)
    for how, (seconds, quality) in zip(efforts, ours, strict=True):
        ratio, gain = fastest / seconds, quality - best_quality
        middle = how.effort == "normal"
        report(
            f"BC7 {name}, effort {how.effort}: against the best library setting",
            f"{gain:+.2f} dB, {ratio:.1f} x the fastest within 0.5 dB ({SIDE * SIDE / seconds / 1e6:.1f} MP/s)",
            "at least -0.3 dB, 5 x" if middle else "(no target)",
            not middle or (gain >= -0.3 and ratio >= 5),
        )


def _six_sorts() -> None:
    """Effort 'best' beside the slowest settings of the best libraries."""
    for name, picture in sorts().items():
        side = len(picture)
        opaque = picture.copy()
        opaque[..., 3] = 255
        encoder = quicktex.s3tc.bc1.BC1Encoder
        raw = quicktex.RawTexture.frombytes(opaque.tobytes(), side, side)
        modes = encoder.ColorMode.FourColor, encoder.ColorMode.ThreeColor
        others = [bytes(encoder(18, mode).encode(raw)) for mode in modes]
        _quality(f"BC1 {name}", formats.BC1, opaque, others, 3)
        settings = etcpak.BC7CompressBlockParams()
        settings.init_linear_weights()
        settings.m_uber_level, settings.m_max_partitions = 4, 64
        _quality(
            f"BC7 {name}", formats.BC7, picture, [etcpak.compress_bc7(picture.tobytes(), side, side, settings)], 4
        )


def _quality(
    what: str, pixel_format: PixelFormat, picture: Picture, others: Sequence[bytes], channels: int
) -> None:
    side = len(picture)
    ours = {
        effort: _psnr(
            picture, pixel_format.decode(pixel_format.encode(picture, How(effort=effort)), side, side), channels
        )
        for effort in get_args(Effort)
    }
    theirs = max(_psnr(picture, pixel_format.decode(data, side, side), channels) for data in others)
    table = ", ".join(f"{effort} {quality:.2f}" for effort, quality in ours.items())
    report(
        f"{what}, the best library's slowest: {theirs:.2f} dB",
        f"{table} dB",
        "best not below (0.02 dB)",
        ours["best"] >= theirs - 0.02,
    )


def _large(found: dict[str, Picture]) -> None:
    """2048 x 2048 with all mips, each picture enlarged."""
    for name, picture in found.items():
        large = np.repeat(np.repeat(picture, 2, axis=0), 2, axis=1)
        rng = np.random.default_rng(3)
        noise = rng.integers(-3, 4, large.shape)
        large = np.clip(large.astype(int) + noise, 0, 255).astype(np.uint8)
        large[..., 3] = np.where(np.repeat(np.repeat(picture[..., 3], 2, 0), 2, 1) == 255, 255, large[..., 3])
        for pixel_format, most in ((formats.BC1, 0.5), (formats.BC3, 0.5), (formats.BC7, 2.5)):
            seconds = best(lambda f=pixel_format, p=large: encode_new(p, f, None, dx10=True), 3)  # type: ignore[misc]
            report(
                f"2048 x 2048 {name} as {pixel_format.title} with all mips",
                f"{seconds:.2f} s",
                f"under {most} s",
                seconds < most,
            )


_HUGE = """
import resource
import numpy as np
from brae.core.assets.texture import formats
from brae.core.assets.texture.encode import encode_new
encode_new(np.zeros((64, 64, 4), np.uint8), formats.BC1, None)
picture = np.full((16384, 16384, 4), 255, np.uint8)
picture[:, ::3, 1] = 90
encode_new(picture, formats.BC1, None)
print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss * 1024 / picture.nbytes)
"""


def _memory() -> None:
    """The whole process at its largest, in pictures of 16,384 x 16,384 (1 GiB each)."""
    told = subprocess.run([sys.executable, "-c", _HUGE], capture_output=True, text=True, check=True)
    share = float(told.stdout)
    report("16384 x 16384 as BC1 with all mips: memory", f"{share:.2f} x the picture", "at most 3 x", share <= 3)


if __name__ == "__main__":
    run()
