"""The search over jobs: every word must stand somewhere in a job's number, vehicle, VIN, hit, notes, date of opening or its person.

Each two and three letters in a row of that text are kept with the job, so that a search reads only the jobs that hold the rarest
of what is looked for. Where all of them are common, the newest jobs are read until there are enough.
"""

import re
from typing import Any, NamedTuple

from fairsquare.store.database import Connection, execute, select, select_one

MOST_COUNTED = 600
"""Matches are counted up to here: of more it is said that there are more."""
_RARE = ((200, 3), (1000, 1))
"""How few jobs may hold letters for these to be read one by one, and how many letters of each word are tried for that."""
_WORDS, _LETTERS = 8, 100
_TEXT = """CONCAT_WS(' ', j.number COLLATE utf8mb4_unicode_520_ci, j.vehicle, j.vin, j.hit_words, j.notes,
                   DATE_FORMAT(j.opened_at, '%%Y-%%m-%%d'), p.full_name)"""
_DAY = re.compile(r"^\d{4}-\d{2}(-\d{2})?$")


class Wanted(NamedTuple):
    """What jobs are looked for by: a condition over `job j` and `person p`, its values, and the tables as they are read.

    Left to itself the optimiser begins with the few people and sorts all jobs.
    """

    condition: str
    values: tuple[Any, ...]
    tables: str
    many: int | None = None


def index_job(connection: Connection, job_id: int) -> None:
    """Keep the letters of a job for the search, in place of those that were kept."""
    execute(connection, "DELETE FROM job_gram WHERE job_id = %s", job_id)
    execute(
        connection,
        f"""INSERT IGNORE INTO job_gram (gram, job_id)
            SELECT SUBSTRING(t.words, s.seq, n.seq), t.id
            FROM (SELECT j.id, {_TEXT} AS words FROM job j JOIN person p ON p.id = j.opened_by WHERE j.id = %s) t
            JOIN seq_2_to_3 n JOIN seq_1_to_11000 s ON s.seq <= CHAR_LENGTH(t.words) - n.seq + 1""",  # noqa: S608 - an expression of our own
        job_id,
    )


def wanted(connection: Connection, shelf: int, text: str) -> Wanted:
    """Return what the words of a search look for on a shelf; where few jobs hold their letters, these are found at once: `many`."""
    words = [word[:_LETTERS] for word in text.split()[:_WORDS]]
    conditions: list[str] = ["TRUE"]
    values: list[Any] = []
    for word in words:
        if _DAY.match(word):
            conditions.append("j.opened_at >= %s AND j.opened_at < %s")
            values += _days(word)
        else:
            conditions.append(f"{_TEXT} LIKE %s ESCAPE '|'")
            values.append(f"%{word.replace('|', '||').replace('%', '|%').replace('_', '|_')}%")
    rarest = _rarest(connection, [word for word in words if not _DAY.match(word)])
    index = "job_shelf_opened" if any(_DAY.match(word) for word in words) else "job_shelf"
    condition = " AND ".join(conditions)
    if rarest is None:
        return Wanted(
            condition, tuple(values), f"job j FORCE INDEX ({index}) STRAIGHT_JOIN person p ON p.id = j.opened_by"
        )
    rows = select(
        connection,
        f"""SELECT j.id FROM job_gram g STRAIGHT_JOIN job j ON j.id = g.job_id STRAIGHT_JOIN person p ON p.id = j.opened_by
            WHERE g.gram = %s AND j.shelf = %s AND {condition}""",  # noqa: S608 - built above, values bound
        rarest,
        shelf,
        *values,
    )
    ids = tuple(row["id"] for row in rows)
    listed = f"j.id IN ({', '.join(['%s'] * len(ids))})" if ids else "FALSE"
    return Wanted(listed, ids, "job j FORCE INDEX (PRIMARY) STRAIGHT_JOIN person p ON p.id = j.opened_by", len(ids))


def count(connection: Connection, shelf: int, looked_for: Wanted) -> int:
    """Return how many jobs of a shelf match, `MOST_COUNTED` where there are as many or more."""
    if looked_for.many is not None:
        return looked_for.many
    row = select_one(
        connection,
        f"""SELECT COUNT(*) AS many FROM (SELECT 1 FROM {looked_for.tables}
            WHERE j.shelf = %s AND {looked_for.condition} LIMIT {MOST_COUNTED}) AS some""",  # noqa: S608 - built above, values bound
        shelf,
        *looked_for.values,
    )
    return int(row["many"]) if row else 0


def _rarest(connection: Connection, words: list[str]) -> str | None:
    """Return letters in a row of the words that few jobs hold, if there are any: names begin alike, numbers end differently."""
    for most, each in _RARE:
        for gram in dict.fromkeys(
            word[k : k + 3]
            for word in reversed(words)
            for k in range(max(len(word) - 3, 0), -1, -1)[:each]
            if len(word) > 1
        ):
            row = select_one(
                connection,
                "SELECT COUNT(*) AS many FROM (SELECT 1 FROM job_gram WHERE gram = %s LIMIT %s) AS some",
                gram,
                most,
            )
            if row and row["many"] < most:
                return gram
    return None


def _days(word: str) -> tuple[str, str]:
    """Return the first day that a day or month means, and the first after it; days that are none match nothing."""
    year, month, day = (int(part) for part in (word + "-01").split("-")[:3])
    if not (1 <= month <= 12 and 1 <= day <= 31 and year >= 1):
        return "1000-01-01", "1000-01-01"
    if len(word) == 7:
        after = (year + month // 12, month % 12 + 1, 1)
        return f"{year:04d}-{month:02d}-01", "{:04d}-{:02d}-{:02d}".format(*after)
    return f"{word} 00:00:00", f"{word} 23:59:59.999999"
