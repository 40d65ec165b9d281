"""What is said at the walk-round, and what is understood; photos made safe to keep."""

import io
import struct
import zipfile
import zlib

import pytest
from PIL import Image

from fairsquare.core.errors import Refused, UnknownCode
from fairsquare.files.photos import LONGEST_PIXELS, THUMBNAIL_PIXELS, photo_of_another, photo_to_keep
from fairsquare.job.intake.walk_round import KINDS, understand_seen
from fairsquare.stand_ins.vehicles import DUNLIN

PLACES = {point.code: point.xyz for point in DUNLIN.sheet.points}


@pytest.mark.parametrize(
    ("said", "kind", "code", "xy"),
    [
        ("kink right rail 420 ahead of F2", "kink", "F2R", (1898.0, -476.0)),
        ("Buckled left rail 42 cm behind f4", "buckle", "F4L", (1692.0, 478.0)),
        ("crack at F4R", "crack", "F4R", (2112.0, -478.0)),
        ("torn seam 16 1/2 in behind C3L", "torn_seam", "C3L", (-884.0 - 419.1, 556.0)),
        ("rust 60 left of R2R", "rust", "R2R", (-1722.0, -434.0)),
        ("tailgate no longer closes at R3L", "misfit", "R3L", (-2184.0, 486.0)),
        ("split lower arm", "split_arm", None, None),
        ("plate on the right apron 60 ahead of F3R: a cut would go through it", "plate", None, None),
        ("paint mark moved at the right hinge", "witness_mark", None, None),
        ("old repair under the left sill near C2L", "earlier_repair", "C2L", (118.0, 578.0)),
        ("other: smells of fuel", "other", None, None),
    ],
)
def test_what_is_said_in_short(said, kind, code, xy) -> None:
    seen = understand_seen(said, PLACES)
    assert (seen.kind, seen.code) == (kind, code)
    assert seen.xy == (pytest.approx(xy) if xy else None)


def test_a_gap_is_read_on_both_sides() -> None:
    seen = understand_seen("gap lid to fender left 4 right 5/16 in at F5R", PLACES)
    assert (seen.left_mm, seen.right_mm, seen.code) == (4.0, pytest.approx(7.9375), "F5R")
    assert seen.place == "lid to fender at F5R"
    assert understand_seen("gap door l 3,5 r 4", {}).left_mm == 3.5


@pytest.mark.parametrize(
    ("said", "words"),
    [
        ("", "Say what it is: gap"),
        ("it looks bad", "Say what it is"),
        ("gap lid to fender 4", "Read a gap on both sides"),
        ("gap lid to fender left 4,000 right 7", "is not a length"),
        ("kink 420 ahead of F2", "left or right"),
        ("kink right rail ahead of F2", "How far ahead of F2R"),
        ("kink right rail 420 ahead of F22", "not on the sheet"),
    ],
)
def test_what_cannot_be_understood_says_what_would_be_right(said, words) -> None:
    with pytest.raises((Refused, UnknownCode), match=words) as fault:
        understand_seen(said, PLACES)
    assert fault.value.field == "call"


def test_without_a_sheet_words_are_kept_as_they_are() -> None:
    seen = understand_seen("kink right rail 420 ahead of F2", {})
    assert (seen.kind, seen.place, seen.code, seen.xy) == ("kink", "right rail 420 ahead of F2", None, None)
    assert set(KINDS) >= {"gap", "kink", "misfit", "plate"}


def written(picture: Image.Image, kind: str = "JPEG", **more) -> bytes:
    out = io.BytesIO()
    picture.save(out, kind, **more)
    return out.getvalue()


def two_halves(size=(400, 200)) -> Image.Image:
    """Red on the left, blue on the right."""
    picture = Image.new("RGB", size, "red")
    picture.paste("blue", (size[0] // 2, 0, *size))
    return picture


def test_a_photo_is_turned_upright_scaled_and_stripped_of_where_it_was_taken() -> None:
    exif = Image.Exif()
    exif[0x0112] = 6
    exif[0x010F] = "a maker"
    exif.get_ifd(0x8825)[2] = (51.0, 28.0, 40.0)
    kept = photo_to_keep(written(two_halves((5000, 3000)), exif=exif), "a.jpg")
    opened = Image.open(io.BytesIO(kept.picture))
    assert (opened.format, opened.size) == ("JPEG", (1440, LONGEST_PIXELS))
    assert (kept.width, kept.height) == opened.size
    assert not dict(opened.getexif())
    assert set(opened.info) <= {"jfif", "jfif_version", "jfif_unit", "jfif_density"}
    top, bottom = opened.getpixel((700, 300)), opened.getpixel((700, 2100))
    assert top[0] > 200 > bottom[0], "what was left is on top: turned by a quarter"
    assert max(Image.open(io.BytesIO(kept.thumbnail)).size) == THUMBNAIL_PIXELS


@pytest.mark.parametrize(
    ("kind", "mode"), [("PNG", "RGBA"), ("WEBP", "RGB"), ("PNG", "P"), ("PNG", "I;16"), ("JPEG", "CMYK")]
)
def test_every_kind_of_picture_becomes_a_plain_jpeg(kind, mode) -> None:
    source = Image.new(mode, (64, 48)) if mode == "I;16" else two_halves((64, 48)).convert(mode)
    kept = photo_to_keep(written(source, kind), "x")
    assert Image.open(io.BytesIO(kept.picture)).mode == "RGB"


def test_what_hides_in_a_picture_is_gone() -> None:
    """A polyglot: a picture that is an archive and a page as well."""
    archive = io.BytesIO()
    with zipfile.ZipFile(archive, "w") as inner:
        inner.writestr("payload.html", "<script>alert(1)</script>")
    kept = photo_to_keep(written(two_halves()) + b"<script>alert(1)</script>" + archive.getvalue(), "two.jpg")
    assert b"script" not in kept.picture
    assert not zipfile.is_zipfile(io.BytesIO(kept.picture))


def test_a_photo_of_another_shop_is_made_anew_like_any_other_and_keeps_what_its_record_names() -> None:
    theirs = photo_to_keep(written(two_halves((900, 700))), "rail.jpg")
    kept = photo_of_another(theirs.picture, "rail.jpg")
    assert (kept.as_sent, kept.sha256) == (theirs.picture, theirs.sha256)
    assert kept.picture != theirs.picture
    assert Image.open(io.BytesIO(kept.picture)).size == (900, 700)


@pytest.mark.parametrize(
    ("more", "behind"),
    [
        ({}, b"<script>alert(1)</script>"),
        ({"comment": b"where it stood"}, b""),
        ({"exif": b"Exif\0\0II*\0\x08\0\0\0\0\0\0\0\0\0"}, b""),
    ],
    ids=["behind it", "a comment", "camera's data"],
)
def test_a_photo_of_another_shop_with_more_than_its_pixels_is_refused(more, behind) -> None:
    with pytest.raises(Refused, match="carries more than its pixels"):
        photo_of_another(written(two_halves(), **more) + behind, "rail.jpg")


def bomb(side: int) -> bytes:
    """A PNG of a few kilobytes that says it has side × side pixels."""

    def chunk(name: bytes, body: bytes) -> bytes:
        return struct.pack(">I", len(body)) + name + body + struct.pack(">I", zlib.crc32(name + body))

    head = struct.pack(">IIBBBBB", side, side, 1, 0, 0, 0, 0)
    packed = zlib.compress(b"\0" * 100_000)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", packed) + chunk(b"IEND", b"")


@pytest.mark.parametrize(
    ("content", "words"),
    [
        (b"", "the file is empty"),
        (b"<svg xmlns='http://www.w3.org/2000/svg'><script/></svg>", "no photo that can be read"),
        (b"GIF89a" + b"\0" * 60, "no photo that can be read"),
        (written(two_halves((900, 700)))[:9000], "cut off or damaged"),
        (written(two_halves((900, 700)), "PNG")[:400], "cut off or damaged"),
        (bomb(20_000), "million pixels"),
        (bomb(60_000), "million pixels"),
        (b"PK\x03\x04" + b"\0" * 200, "no photo that can be read"),
    ],
)
def test_what_is_no_whole_photo_is_refused_in_words(content, words) -> None:
    with pytest.raises(Refused, match=words) as fault:
        photo_to_keep(content, "IMG_1.jpg")
    assert fault.value.field == "photo"
    assert "IMG_1.jpg" in fault.value.title


def test_sixty_megapixels_are_taken() -> None:
    kept = photo_to_keep(written(Image.new("RGB", (9504, 6336), "#777")), "large.jpg")
    assert (kept.width, kept.height) == (LONGEST_PIXELS, 1600)
