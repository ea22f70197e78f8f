"""Pictures of the shoot: a deck, a running frame counter, a clapper that closes, a lantern that follows the sound."""

from __future__ import annotations

from collections.abc import Iterator
from math import cos, radians, sin

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

SIZE = (384, 216)
_COUNTER, _DIGIT = (4, 190, 100, 213), 12  # where the frame counter stands, and how wide each of its digits is
Font = ImageFont.FreeTypeFont | ImageFont.ImageFont


def _background(seed: int) -> Image.Image:
    rng = np.random.default_rng(seed)
    rows = np.linspace(0, 1, SIZE[1])[:, None, None]
    sky = np.array([[0.62, 0.68, 0.72]]) * (1 - 0.3 * rng.random())
    water = np.array([[0.20, 0.29, 0.33]])
    ground = np.where(rows < 0.55, sky * (1 - 0.25 * rows), water * (0.8 + 0.5 * rows))
    picture = np.broadcast_to(ground, (SIZE[1], SIZE[0], 3)).copy()
    picture[120:122] *= 0.6
    picture[168:] = [0.36, 0.29, 0.22]
    picture += rng.normal(0, 0.006, picture.shape)
    return Image.fromarray((np.clip(picture, 0, 1) * 255).astype(np.uint8))


def frames(
    *,
    count: int,
    tag: str,
    slate: str,
    take: int,
    clap_frame: int | None,
    levels: NDArray[np.float64],
    seed: int,
) -> Iterator[NDArray[np.uint8]]:
    """Draw every frame of a take.

    Parameters
    ----------
    count : int
        Frames.
    tag, slate, take : str, str, int
        Written on the clapper.
    clap_frame : int or None
        The first frame on which the sticks are closed; None when no clapper is shown.
    levels : ndarray, shape (count,)
        How loud it is in each frame, 0 to 1; moves the lantern and the mouth.
    seed : int
        Of the background.

    Yields
    ------
    ndarray of uint8, shape (height, width, 4)
        Red, green, blue and nothing; drawn over for the next one.
    """
    base = _background(seed)
    ImageDraw.Draw(base).rectangle(_COUNTER, fill=(12, 14, 16))
    digits = _digits(base)
    small = ImageFont.load_default(13)
    empty = np.asarray(base.convert("RGBX"))
    drawn = empty.copy()
    image = Image.frombuffer("RGBX", SIZE, drawn, "raw", "RGBX", 0, 1)
    image.readonly = 0  # it draws into the array itself: copies would take as long as drawing
    draw = ImageDraw.Draw(image)
    for k in range(count):
        drawn[:] = empty
        level = float(levels[k])
        # The ferryman's mouth and the lantern move with the sound.
        draw.ellipse((240, 72, 285, 128), fill=(196, 160, 132))
        draw.ellipse((254, 108 - 6 * level, 271, 109 + 8 * level), fill=(70, 30, 28))
        glow = int(90 + 165 * level)
        halo = (314 - 9 * level, 56 - 9 * level, 336 + 9 * level, 78 + 9 * level)
        draw.ellipse(halo, fill=(glow, int(glow * 0.8), 60))
        if clap_frame is not None and abs(k - clap_frame) < 60:
            _clapper(draw, k - clap_frame, f"{slate} / {take}", tag, small)
        for place, digit in enumerate(f"{k:06d}"):
            left = _COUNTER[0] + 6 + place * _DIGIT
            drawn[_COUNTER[1] : _COUNTER[3] + 1, left : left + _DIGIT] = digits[int(digit)]
        yield drawn


def _digits(base: Image.Image) -> list[NDArray[np.uint8]]:
    """Return the ten digits as they stand in the counter: text is slow to draw, and each frame has another number."""
    font, made = ImageFont.load_default(21), []
    for digit in range(10):
        image = base.convert("RGBX")
        left = _COUNTER[0] + 6
        ImageDraw.Draw(image).text((left, _COUNTER[1] - 1), str(digit), fill=(240, 240, 230), font=font)
        made.append(np.asarray(image)[_COUNTER[1] : _COUNTER[3] + 1, left : left + _DIGIT])
    return made


def _clapper(draw: ImageDraw.ImageDraw, after: int, text: str, tag: str, font: Font) -> None:
    angle = 0.0 if 0 <= after < 12 else min(32.0, 7.0 * -after) if after < 0 else min(25.0, 4.0 * (after - 11))
    draw.rectangle((44, 94, 184, 170), fill=(28, 30, 32), outline=(235, 230, 215), width=2)
    draw.text((54, 108), text, fill=(235, 230, 215), font=font)
    draw.text((54, 134), f"cam {tag}", fill=(235, 230, 215), font=font)
    x, y, long, thick = 44, 88, 140, 13
    a = radians(angle)
    ux, uy, vx, vy = cos(a), -sin(a), sin(a), cos(a)
    for n in range(6):
        left, right = long * n / 6, long * (n + 1) / 6
        corners = [
            (x + ux * d - vx * h, y + uy * d - vy * h)
            for d, h in ((left, 0), (right, 0), (right, thick), (left, thick))
        ]
        draw.polygon(corners, fill=(240, 236, 224) if n % 2 else (30, 30, 32))
