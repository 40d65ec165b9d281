"""Photos as they are kept: made anew from what was sent, with a thumbnail. Never changed.

Of a photo that came with another shop's job, what its record names the checksum of is kept beside what is shown; both were kept
apart, photo by photo, before the job.
"""

from typing import Any, Literal

from fairsquare.files.photos import KeptPhoto
from fairsquare.job.facts.intake import PhotoFact
from fairsquare.store.database import Connection, execute, insert, select, select_one, who
from fairsquare.store.recorded import Recorded

About = Literal["job", "walk", "member", "supplement", "part", "section", "done"]
Form = Literal["shown", "thumbnail", "recorded"]
"""Of a photo: what pages show, that in small, or the bytes whose checksum stands in records."""
_COLUMNS: dict[Form, str] = {
    "shown": "COALESCE(a.picture, f.picture)",
    "thumbnail": "f.thumbnail",
    "recorded": "COALESCE(a.as_sent, a.picture, f.as_sent, f.picture)",
}


def on_page(*, small: bool) -> Form:
    """Return the form in which a page shows a photo."""
    return "thumbnail" if small else "shown"


def keep_photo(
    connection: Connection,
    job_id: int,
    about: About,
    about_id: int | None,
    name: str,
    words: str,
    photo: KeptPhoto,
    person_id: int,
    apart: int | None = None,
) -> int:
    """Keep a photo and return its id; the bytes of one that was kept `apart` before are not kept again."""
    return insert(
        connection,
        """INSERT INTO photo (job_id, about, about_id, name, words, width, height, sha256, picture, as_sent,
             thumbnail, apart_id, person_id, at)
           VALUES (%(job_id)s, %(about)s, %(about_id)s, %(name)s, %(words)s, %(width)s, %(height)s, %(sha256)s,
             _binary %(picture)s, %(as_sent)s, _binary %(thumbnail)s, %(apart)s, %(person_id)s, UTC_TIMESTAMP(6))""",
        job_id=job_id,
        about=about,
        about_id=about_id,
        name=name,
        words=words,
        width=photo.width,
        height=photo.height,
        sha256=photo.sha256,
        picture=photo.picture if apart is None else b"",
        as_sent=photo.as_sent if apart is None else None,
        apart=apart,
        thumbnail=photo.thumbnail,
        person_id=person_id,
    )


def keep_apart(connection: Connection, claim: str, place: int, photo: KeptPhoto) -> int:
    """Keep the bytes of a photo whose job is kept later, and return under which id; the same `place` of a `claim` is kept once."""
    return insert(
        connection,
        """INSERT INTO photo_apart (claim, place, picture, as_sent, at)
           VALUES (%(claim)s, %(place)s, _binary %(picture)s, %(as_sent)s, UTC_TIMESTAMP(6))
           ON DUPLICATE KEY UPDATE id = LAST_INSERT_ID(id)""",
        claim=claim,
        place=place,
        picture=photo.picture,
        as_sent=photo.as_sent,
    )


def apart_without_photo(connection: Connection, claim: str) -> list[int]:
    """Return the ids of bytes of a claim whose job was not kept; and of older ones, whose server was gone before it could."""
    rows = select(
        connection,
        """SELECT a.id FROM photo_apart a LEFT JOIN photo f ON f.apart_id = a.id
           WHERE f.id IS NULL AND (a.claim = %s OR a.at < UTC_TIMESTAMP(6) - INTERVAL 1 DAY) ORDER BY a.id""",
        claim,
    )
    return [row["id"] for row in rows]


def forget_apart(connection: Connection, apart: int) -> None:
    """Forget bytes that no photo names: one at a time, for a cluster is sent all of what is deleted."""
    execute(connection, "DELETE FROM photo_apart WHERE id = %s", apart)


def photos(connection: Connection, job_id: int) -> tuple[PhotoFact, ...]:
    """Return what is known of a job's photos, oldest first, without the pictures."""
    rows = select(
        connection,
        """SELECT f.id, f.about, f.about_id, f.name, f.words, f.width, f.height, f.sha256, f.at, p.full_name, p.role
           FROM photo f JOIN person p ON p.id = f.person_id WHERE f.job_id = %s ORDER BY f.id""",
        job_id,
    )
    plain = ("id", "about", "about_id", "name", "words", "width", "height", "sha256")
    return tuple(PhotoFact.model_validate({**{name: row[name] for name in plain}, "by": who(row)}) for row in rows)


def photo_bytes(connection: Connection, number: str, photo: int, form: Form) -> bytes | None:
    """Return a photo of the job of that number, in the form asked for; None where there is none."""
    row: dict[str, Any] | None = select_one(
        connection,
        f"""SELECT {_COLUMNS[form]} AS picture FROM photo f JOIN job j ON j.id = f.job_id
            LEFT JOIN photo_apart a ON a.id = f.apart_id
            WHERE j.number = %s AND f.id = %s""",  # noqa: S608 - one of three columns of ours
        number[:20],
        photo,
    )
    return bytes(row["picture"]) if row else None


def recorded_photo(connection: Connection, record: str, sha256: str, form: Form) -> bytes | None:
    """Return a photo by the SHA-256 that a record names, of the job of which that record is kept; None where there is none."""
    row: dict[str, Any] | None = select_one(
        connection,
        f"""SELECT {_COLUMNS[form]} AS picture FROM photo f JOIN record r ON r.job_id = f.job_id
            LEFT JOIN photo_apart a ON a.id = f.apart_id
            WHERE r.sha256 = %s AND f.sha256 = %s LIMIT 1""",  # noqa: S608 - one of three columns of ours
        record[:64],
        sha256[:64],
    )
    return bytes(row["picture"]) if row else None


RECORDED = {
    "photos": Recorded("SELECT COUNT(*), MAX(id) FROM photo WHERE job_id = {job}", photos),
}
"""The facts of a job that are kept here, and how they are read."""
