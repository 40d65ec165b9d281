"""Copies of a backup that only who has a key of their own can read: made and opened by `age`, which is a Debian package.

The server knows the public half only (`age1…`): whoever breaks into it, or finds a copy, cannot read it.
"""

import re
import shutil
import subprocess
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from fairsquare.files import since
from fairsquare.service.keeping import KeepingFault

ENDING = ".age"
_RECIPIENT = re.compile(r"age1[02-9ac-hj-np-z]{58}")
"""An X25519 recipient as age writes it: Bech32 (BIP 173) of 32 bytes."""


def recipients_of(words: str) -> tuple[str, ...]:
    """Return for whom copies are made, of words with commas between. Raises `KeepingFault` for what is no recipient."""
    recipients = tuple(part for part in re.split(r"[\s,]+", words) if part)
    for one in recipients:
        if not _RECIPIENT.fullmatch(one):
            raise KeepingFault(
                f"{one[:70]} is nobody for whom a copy can be made: give the public half of a key, as age-keygen tells it "
                "(age1 and 58 more letters and figures).",
                field="copy_for",
                value=one[:70],
            )
    return recipients


def copy_for(file: Path, recipients: tuple[str, ...]) -> Path:
    """Write an encrypted copy of a backup beside it, which any of the recipients can read; return it. Raises `KeepingFault`."""
    made = file.with_name(file.name + ENDING)
    if made.exists():
        raise KeepingFault(f"{made} is there already: copies are not written over.", field="file")
    part = made.with_name(made.name + ".part")
    for_whom = [word for one in recipients for word in ("--recipient", one)]
    try:
        part.touch(mode=0o600)
        _age("--encrypt", *for_whom, "--output", str(part), str(file))
        part.rename(made)
    except OSError as fault:
        raise KeepingFault(f"{made} cannot be written: {fault.strerror}.", field="file") from None
    finally:
        part.unlink(missing_ok=True)
    return made


@contextmanager
def readable(file: Path, identity: Path | None) -> Iterator[Path]:
    """Yield a backup that can be read: the file itself, or of an encrypted copy what the key in `identity` makes of it and of what
    may follow it, all of which is gone after the block. Raises `KeepingFault`."""
    if not file.name.endswith(ENDING):
        yield file
        return
    if identity is None:
        raise KeepingFault(f"{file} is encrypted: say --identity and the file with the key.", field="identity")
    with tempfile.TemporaryDirectory(prefix="fairsquare-") as folder:
        for one in (file, *file.parent.glob(f"*{since.ENDING}{ENDING}")):
            opened = Path(folder) / one.name.removesuffix(ENDING)
            opened.touch(mode=0o600)
            _age("--decrypt", "--identity", str(identity), "--output", str(opened), str(one))
        yield Path(folder) / file.name.removesuffix(ENDING)


def _age(*words: str) -> None:
    program = shutil.which("age")
    if program is None:
        raise KeepingFault("age is not installed: apt-get install age.")
    done = subprocess.run([program, *words], capture_output=True, text=True, check=False)  # noqa: S603 - our own command
    if done.returncode:
        told = done.stderr.strip().splitlines()
        raise KeepingFault(f"age says: {told[0].removeprefix('age: error: ') if told else 'nothing'}")
