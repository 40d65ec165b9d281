"""Pictures for the demo, drawn by us where a shop would have photographs: a member as it should run, and as it has gone."""

import io
import zlib

import numpy as np
from PIL import Image, ImageDraw, ImageFont

_SIZE = (1280, 960)
_GROUND, _METAL, _EDGE, _RUST, _CHALK, _INK = "#8d9391", "#c9cdc8", "#4d5557", "#9a5b32", "#f2efe6", "#1c2023"


def drawn_photo(words: str, kind: str) -> bytes:
    """Return a PNG of a rail with the damage of that kind, with `words` chalked beside it."""
    random = np.random.default_rng(zlib.crc32(words.encode()))
    picture = Image.new("RGB", _SIZE, _GROUND)
    draw = ImageDraw.Draw(picture)
    for _ in range(260):
        x, y = (float(value) for value in random.uniform((0, 0), _SIZE))
        shade = int(random.integers(118, 160))
        draw.ellipse((x, y, x + int(random.integers(2, 9)), y + 3), fill=(shade, shade + 4, shade))
    _rail(draw, random, kind)
    font = ImageFont.load_default(size=44)
    draw.text((60, 800), words, fill=_CHALK, font=font)
    draw.text((60, 866), "drawn for the demo, no photograph", fill=_INK, font=ImageFont.load_default(size=26))
    written = io.BytesIO()
    picture.save(written, "PNG")
    return written.getvalue()


def _rail(draw: ImageDraw.ImageDraw, random: np.random.Generator, kind: str) -> None:
    """Draw a rail from left to right that bends where the damage is, with its holes, and what is seen on it."""
    bent: float = {"kink": 120, "buckle": 70, "crack": 24, "torn_seam": 40}.get(kind, 12)
    at = 700
    top: list[tuple[float, float]] = [
        (float(x), 330.0 + (bent * (x - at) / (_SIZE[0] - at) if x > at else 0)) for x in range(0, _SIZE[0] + 1, 20)
    ]
    if kind == "buckle":
        top = [(x, y + 26 * np.sin((x - at) / 34) * np.exp(-(((x - at) / 120) ** 2))) for x, y in top]
    low = [(x, y + 210) for x, y in reversed(top)]
    draw.polygon([*top, *low], fill=_METAL, outline=_EDGE, width=5)
    draw.line([(x, y + 40) for x, y in top], fill=_EDGE, width=3)
    draw.line([(x, y + 170) for x, y in top], fill=_EDGE, width=3)
    for x, y in top[4::9]:
        draw.ellipse((x - 22, y + 82, x + 22, y + 126), fill=_GROUND, outline=_EDGE, width=4)
    if kind in ("crack", "torn_seam"):
        y = 380.0
        places = [(float(at), y)]
        for _ in range(9):
            y += 18
            places.append((at + float(random.normal(0, 14)), y))
        draw.line(places, fill=_INK, width=7)
    if kind == "rust":
        for _ in range(60):
            x, y = at + float(random.normal(0, 90)), 440 + float(random.normal(0, 50))
            draw.ellipse((x, y, x + 26, y + 18), fill=_RUST)
    if kind in ("kink", "buckle"):
        for k in range(4):
            draw.line((at - 30 + 18 * k, 340, at - 46 + 20 * k, 530), fill=_EDGE, width=4)
