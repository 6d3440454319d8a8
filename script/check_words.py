#!/usr/bin/env python3
"""Point at words that are not ours: in strings and docstrings of the program, its guides and its README.

Usage: check_words.py      exits 1 and names file, line and what to write where any is found (list: script/words.txt)
"""

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parents[1]
LIST = ROOT / "script" / "words.txt"
PACKAGE = ROOT / "src" / "yellow_ember"


def patterns() -> list[tuple[re.Pattern[str], str]]:
    """What is looked for, and what stands instead."""
    lines = (line for line in LIST.read_text("utf-8").splitlines() if line and not line.startswith("#"))
    return [(re.compile(pattern, re.IGNORECASE), instead)
            for pattern, instead in (line.split("\t") for line in lines)]


def words_of(path: Path) -> Iterator[tuple[int, str]]:
    """Line and text of everything in a file that somebody reads: strings of code, lines of prose."""
    text = path.read_text("utf-8")
    if path.suffix != ".py":
        yield from enumerate(text.splitlines(), 1)
        return
    for node in ast.walk(ast.parse(text)):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and " " in node.value:
            yield node.lineno, node.value


def main() -> int:
    """Look through everything; the exit status."""
    files = [*PACKAGE.rglob("*.py"), *(PACKAGE / "data" / "guides").glob("*.md"), ROOT / "README.md"]
    wrong = [f"{path.relative_to(ROOT)}:{line}: {result[0]!r}: write {instead}"
             for path in sorted(files) for line, text in words_of(path)
             for pattern, instead in patterns() if (result := pattern.search(text))]
    print("\n".join(wrong) if wrong else "no word of the list is used")
    return 1 if wrong else 0


if __name__ == "__main__":
    sys.exit(main())
