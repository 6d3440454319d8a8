"""Text from outside (names, paths, messages with them in), made fit to be shown and to be kept."""

from __future__ import annotations

import re
import sys

_LONGEST_FILE_NAME = 200
"""Bytes; what is left of 255 takes numbers and endings."""
REPLACEMENT = "\ufffd"
_NEGATIVE = re.compile(r"(?<![\w.])-(?=[\d.])")
_UNFIT = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u2028\u2029\u202a-\u202e\u2066-\u2069\ud800-\udfff]")
"""Control characters but tab and line feed, what turns the direction of writing, and halves of surrogate pairs."""


def plain(text: str) -> str:
    """The text as it can be shown anywhere: what a terminal or a label would obey, or can't show, is replaced.

    >>> plain("take\\x1b[31m 1"), plain("caf\\udce9")
    ('take\ufffd[31m 1', 'caf\ufffd')
    """
    return _UNFIT.sub(REPLACEMENT, text)


def plain_line(text: str) -> str:
    """As `plain`, on one line: a name."""
    return plain(text).replace("\n", " ").replace("\t", " ")


def say(text: str) -> None:
    """A message on standard error, as text that no terminal obeys."""
    print(plain_line(text), file=sys.stderr)


def with_minus(text: str) -> str:
    """The text with a minus sign before every negative number.

    >>> with_minus("-26 to -20 dB, 4-track, +1|-2")
    '\u221226 to \u221220 dB, 4-track, +1|\u22122'
    """
    return _NEGATIVE.sub("\u2212", text)


def plain_file_name(name: str) -> str:
    """A name as a file's, without an ending: free of what file systems mind, and no longer than they take.

    >>> plain_file_name("Take 1: a/b "), plain_file_name(" . ")
    ('Take 1_ a_b', 'Untitled')
    """
    safe = re.sub(r'[\\/:*?"<>|]+', "_", plain_line(name)).strip(" .")
    return safe.encode()[:_LONGEST_FILE_NAME].decode(errors="ignore") or "Untitled"


def path_text(text: str) -> str:
    """A path that a file brought, as a file system could hold it; names that are no UTF-8 stay what they are.

    >>> path_text("a\\x00b"), path_text("caf\\udce9"), path_text("x\\ud800")
    ('a\ufffdb', 'caf\udce9', 'x\ufffd')
    """
    return re.sub("[\x00\ud800-\udc7f\udd00-\udfff]", REPLACEMENT, text)
