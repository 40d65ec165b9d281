"""Photos as they come in, made safe to keep: decoded, turned upright, scaled, and written anew as JPEG with nothing else in it.

What is kept is made of the pixels alone: position data, other metadata, and whatever else was hidden in the file are gone.
"""

import hashlib
import io
import warnings
from threading import BoundedSemaphore
from typing import NamedTuple

from PIL import Image, ImageCms, ImageOps

from fairsquare.core.errors import Refused

LONGEST_PIXELS, THUMBNAIL_PIXELS = 2400, 320
MOST_PIXELS = 120_000_000
"""More than any camera of the trade makes; a file that says it is larger is not decoded."""
_FORMATS = ("JPEG", "PNG", "WEBP")
_QUALITY, _THUMBNAIL_QUALITY = 86, 78
_AT_ONCE = BoundedSemaphore(2)
"""A large photo takes hundreds of megabytes while it is decoded."""
_END_OF_JPEG = b"\xff\xd9"
_RIGHT = "Send a JPEG, PNG or WebP"


class KeptPhoto(NamedTuple):
    """A photo ready to be kept: JPEG upright and scaled, its thumbnail, the size in pixels, and the checksum of the JPEG.

    One of another shop has its bytes `as_sent` too, and the checksum is theirs: its record names it. They leave only in files.
    """

    picture: bytes
    thumbnail: bytes
    width: int
    height: int
    sha256: str
    as_sent: bytes | None = None


def photo_to_keep(content: bytes, name: str) -> KeptPhoto:
    """Return a photo ready to be kept. Raises `Refused`, for the field `photo`, for what is none or is not whole."""
    if not content:
        raise Refused(f"{name}: the file is empty.", field="photo", value=name)
    with _AT_ONCE, warnings.catch_warnings():
        warnings.simplefilter("ignore", Image.DecompressionBombWarning)
        picture = _decoded(content, name)
    thumbnail = picture.copy()
    thumbnail.thumbnail((THUMBNAIL_PIXELS, THUMBNAIL_PIXELS), Image.Resampling.LANCZOS)
    body = _jpeg(picture, _QUALITY)
    return KeptPhoto(
        picture=body,
        thumbnail=_jpeg(thumbnail, _THUMBNAIL_QUALITY),
        width=picture.width,
        height=picture.height,
        sha256=hashlib.sha256(body).hexdigest(),
    )


def photo_of_another(content: bytes, name: str) -> KeptPhoto:
    """Return a photo that was made by `photo_to_keep` in another shop: made anew like any other, its bytes as sent beside it.

    Raises `Refused` for what is none, and for one with anything beside its pixels, which `photo_to_keep` never writes.
    """
    made = photo_to_keep(content, name)
    with Image.open(io.BytesIO(content), formats=("JPEG",)) as opened:
        beside = [kind for kind, _ in getattr(opened, "applist", ()) if kind != "APP0"]
    if beside or not content.endswith(_END_OF_JPEG):
        raise Refused(
            f"{name} carries more than its pixels ({', '.join(beside) or 'something behind them'}): no photo of ours does.",
            field="photo",
            value=name,
        )
    return made._replace(as_sent=content, sha256=hashlib.sha256(content).hexdigest())


def _decoded(content: bytes, name: str) -> Image.Image:
    """Return the picture upright, in sRGB, no longer than what is kept."""
    try:
        opened = Image.open(io.BytesIO(content), formats=_FORMATS)
    except Image.DecompressionBombError:
        raise _too_many(name) from None
    except Exception:
        raise Refused(f"{name} is no photo that can be read. {_RIGHT}.", field="photo", value=name) from None
    if opened.width * opened.height > MOST_PIXELS:
        raise _too_many(name)
    try:
        opened.draft("RGB", (LONGEST_PIXELS, LONGEST_PIXELS))
        opened.load()
        profile = opened.info.get("icc_profile")
        upright = ImageOps.exif_transpose(opened)
        upright.thumbnail((LONGEST_PIXELS, LONGEST_PIXELS), Image.Resampling.LANCZOS)
        return _flat(upright, profile)
    except Exception:
        raise Refused(
            f"{name} is cut off or damaged: take it or copy it again. {_RIGHT}.", field="photo", value=name
        ) from None


def _too_many(name: str) -> Refused:
    return Refused(
        f"{name} says it has more than {MOST_PIXELS // 1_000_000} million pixels: send it smaller.",
        field="photo",
        value=name,
    )


def _flat(picture: Image.Image, profile: bytes | None) -> Image.Image:
    """Return a picture in sRGB on white: without transparency and without a profile."""
    if picture.mode in ("RGBA", "LA", "PA") or "transparency" in picture.info:
        over = picture.convert("RGBA")
        ground = Image.new("RGBA", over.size, (255, 255, 255, 255))
        return Image.alpha_composite(ground, over).convert("RGB")
    if profile and picture.mode in ("RGB", "L", "CMYK"):
        try:
            own = ImageCms.ImageCmsProfile(io.BytesIO(profile))
            changed = ImageCms.profileToProfile(picture, own, ImageCms.createProfile("sRGB"), outputMode="RGB")
        except (ImageCms.PyCMSError, OSError, ValueError):
            return picture.convert("RGB")
        return changed or picture.convert("RGB")
    return picture.convert("RGB")


def _jpeg(picture: Image.Image, quality: int) -> bytes:
    """Return the pixels as JPEG, with nothing of what came with them."""
    bare = Image.new("RGB", picture.size)
    bare.paste(picture)
    written = io.BytesIO()
    bare.save(written, "JPEG", quality=quality, optimize=True)
    return written.getvalue()
