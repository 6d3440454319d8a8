"""Where the data lie that come with the program."""

from pathlib import Path

DATA = Path(__file__).parent / "data"
DEMO = DATA / "demo" / "night-ferry.ember"
FOUND_REEL = DATA / "demo" / "found-reel.flac"
"""Something to sound like."""
