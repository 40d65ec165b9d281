"""`./run test [what]`: format, lint, types and imports, then the tests; or one part of them.

Tests run on all processors, each module on one of them, in an order by chance: its seed is printed, and
`-p randomly_seed=N` repeats it.
"""

import os
import subprocess
import sys

LINT = (
    ("ruff", "format", "--check", "."),
    ("ruff", "check", "."),
    ("mypy",),
    ("importlinter",),
)
PARTS = ("core", "job", "words", "files", "drawings", "store", "web", "browser")


def main() -> int:
    """Run what was asked and return the exit status of the first that failed."""
    what, rest = (sys.argv[1], sys.argv[2:]) if len(sys.argv) > 1 else ("all", [])
    if what not in (*PARTS, "all", "lint"):
        sys.stderr.write(f"There is no part {what}: choose {', '.join(PARTS)}, lint or nothing for all.\n")
        return 2
    failed = 0
    if what in ("all", "lint"):
        for tool in LINT:
            sys.stderr.write(f"· {' '.join(tool)}\n")
            name = ["importlinter.cli"] if tool[0] == "importlinter" else list(tool)
            command = [sys.executable, "-c", "from importlinter.cli import lint_imports_command as c; c()"]
            failed |= subprocess.run(
                command if tool[0] == "importlinter" else [sys.executable, "-m", *name], check=False
            ).returncode
    if what != "lint":
        many = () if {"-n", "-k", "--pdb"} & set(rest) else ("-n", str(os.cpu_count() or 1), "--dist", "loadfile")
        folders = [f"tests/{part}" for part in (PARTS if what == "all" else (what,))]
        sys.stderr.write(f"· pytest {' '.join(folders)}\n")
        failed |= subprocess.run([sys.executable, "-m", "pytest", *many, *folders, *rest], check=False).returncode
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
