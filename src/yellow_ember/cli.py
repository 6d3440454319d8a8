"""The command line's grammar, and the way to what a command does; nothing is loaded that a command does not need."""

from __future__ import annotations

import argparse
import os
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

from yellow_ember import __version__
from yellow_ember.choices import DTYPES, FACTORS, FORMATS, RATES
from yellow_ember.plain_text import say
from yellow_ember.shipped import DEMO


def _open_standard_streams() -> None:
    """Where a stream was closed by whoever started this, let it lead nowhere.

    Else the next file that is opened would take its number, and get what was meant for the stream.
    """
    for number, name, mode in ((0, "stdin", "r"), (1, "stdout", "w"), (2, "stderr", "w")):
        try:
            os.fstat(number)
        except OSError:
            nowhere = os.open(os.devnull, os.O_RDWR)
            if nowhere != number:
                os.dup2(nowhere, number)
                os.close(nowhere)
        if getattr(sys, name) is None:
            setattr(sys, name, os.fdopen(number, mode, closefd=False))


# -- the window -----------------------------------------------------------------------------


def _window(paths: list[Path], *, apart: bool = False) -> int:
    from yellow_ember.system_libraries import install_hint, missing_in, why_no_window

    reason = why_no_window()
    if reason is None:
        try:
            from yellow_ember.app.launch import launch

            status = launch(paths, apart=apart)
        except ImportError as error:
            library = missing_in(error)
            if library is None:
                raise
            reason = install_hint([library])
        else:
            # Everything is put away.  In which order Python and Qt would take the rest apart, nobody knows: so they
            # don't.
            sys.stdout.flush()
            sys.stderr.flush()
            os._exit(status)
    say(f"yellow-ember: {reason}")
    return 1


def _at_least(lowest: int) -> Callable[[str], int]:
    def parse(text: str) -> int:
        value = int(text)
        if not lowest <= value <= 65536:
            raise argparse.ArgumentTypeError(f"must lie between {lowest} and 65536")
        return value

    return parse


def _seconds(text: str) -> float:
    value = float(text)
    if not 0.0 <= value <= 600.0:
        raise argparse.ArgumentTypeError("must lie between 0 and 600")
    return value


def _dbfs(text: str) -> float:
    value = float(text)
    if not -60.0 <= value <= 0.0:
        raise argparse.ArgumentTypeError("must lie between -60 and 0")
    return value


def _ports(text: str) -> list[str]:
    names = [name.strip() for name in text.split(",")]
    if not all(names) or len(names) > 2:
        raise argparse.ArgumentTypeError("must be one port or two, with a comma between them")
    return names


def parser() -> argparse.ArgumentParser:
    """The command line's grammar."""
    top = argparse.ArgumentParser(
        prog="yellow-ember", description="Harmonic colour for tracks and buses.  Without a command: the window.")
    top.add_argument("--version", action="version", version=f"yellow-ember {__version__}")
    commands = top.add_subparsers(title="commands", metavar="COMMAND", dest="command")

    def command(name: str, help_text: str) -> argparse.ArgumentParser:
        return commands.add_parser(name, help=help_text, description=help_text)

    demo = command("demo", "open the window with the demo session")
    opening = command("open", "open the window with a session, or a new one from audio files")
    opening.add_argument("paths", nargs="*", type=Path, metavar="SESSION|AUDIO")
    for sub in (demo, opening):
        sub.add_argument("--apart", action="store_true", help="a window of its own, also where one is open already")
    stages = command("stages", "list the stages and their parameters")
    stages.add_argument("kind", nargs="?")
    presets = command("presets", "list the presets")
    _add_process(command("process", "process one audio file through a chain"))
    _add_match(command("match", "find a chain that makes a file sound like another one"))
    _add_batch(command("batch", "process many files, or folders of them, through one chain"))
    _add_render(command("render", "print a session to files"))
    _add_live(command("live", "play through a chain live, without a window, until Ctrl-C"))
    measure = command("measure",
                      "measure loudness and peaks; against another file, what was added and the tone change")
    measure.add_argument("file", type=Path, metavar="FILE")
    measure.add_argument("--against", type=Path, metavar="FILE", help="what the file was before processing")
    for sub in (stages, presets, measure, command("bench", "show how fast the stages run here")):
        sub.add_argument("--json", action="store_true")
    return top


def _add_which_chain(sub: argparse.ArgumentParser) -> Any:
    chain = sub.add_mutually_exclusive_group(required=True)
    chain.add_argument("--chain", type=Path, metavar="FILE", help="a chain file")
    chain.add_argument("--preset", metavar="NAME", help="a preset's name")
    return chain


def _add_live(sub: argparse.ArgumentParser) -> None:
    _add_which_chain(sub)
    sub.add_argument("--in", dest="ins", type=_ports, default=[], metavar="PORTS",
                     help="one or two JACK ports to listen to; default: the card's first two channels")
    sub.add_argument("--out", dest="outs", type=_ports, default=[], metavar="PORTS",
                     help="one or two JACK ports to play to; default: the card")
    sub.add_argument("--device", metavar="NAME", help="default: JACK where a server runs, else the silent card")
    sub.add_argument("--feed", metavar="FILE", default="", help="what the silent card hears, over and over")
    sub.add_argument("--block", type=int, choices=(32, 64, 128, 256, 512, 1024), default=128, metavar="N",
                     help="frames; a JACK server has its own")
    sub.add_argument("--rate", type=int, choices=RATES, default=48000, help="a JACK server has its own")
    sub.add_argument("--oversample", type=int, choices=FACTORS, default=4)


def _add_chain(sub: argparse.ArgumentParser) -> Any:
    """What a file is processed by, and how."""
    chain = _add_which_chain(sub)
    sub.add_argument("--oversample", type=int, choices=FACTORS, default=8)
    sub.add_argument("--dtype", choices=tuple(DTYPES), help="default: float32, or pcm24 in FLAC")
    sub.add_argument("--tail", type=_seconds, default=0.0, metavar="SECONDS", help="go on after the end")
    return chain


def _add_match(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("input", type=Path, metavar="IN")
    sub.add_argument("--reference", type=Path, required=True, metavar="REF", help="what it is to sound like")
    sub.add_argument("--out", type=Path, required=True, metavar="CHAIN", help="a chain file to write")
    sub.add_argument("--seed", type=_at_least(1), default=1, metavar="N", help="the same seed finds the same again")


def _add_process(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("input", type=Path, metavar="IN")
    sub.add_argument("output", type=Path, metavar="OUT")
    _add_chain(sub)
    sub.add_argument("--block", type=_at_least(1), default=4096, metavar="N", help="frames processed at once")
    sub.add_argument("--match", action="store_true", help="make the result as loud as the input")


def _add_batch(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("inputs", nargs="+", type=Path, metavar="IN", help="sound files, or folders of them")
    sub.add_argument("--out", type=Path, required=True, metavar="DIR")
    _add_chain(sub).add_argument("--reference", type=Path, metavar="REF",
                                 help="or find for each file the chain that makes it sound like this one")
    sub.add_argument("--seed", type=_at_least(1), default=1, metavar="N", help="of the search for those chains")
    level = sub.add_mutually_exclusive_group()
    level.add_argument("--match", action="store_true", help="make each result as loud as its input")
    level.add_argument("--peak", type=_dbfs, metavar="DBFS", help="bring each result's highest sample to this level")
    sub.add_argument("--names", default="{name}", metavar="PATTERN",
                     help="of the results, with {name}, {folder}, {preset}, {number}")
    sub.add_argument("--format", choices=tuple(FORMATS), default="wav")
    sub.add_argument("--jobs", type=_at_least(1), metavar="N", help="files at a time; default: one a core")
    sub.add_argument("--cluster", metavar="ADDRESS", default="",
                     help="have the workers of a Dask scheduler do it, which reach all folders by the same paths")
    sub.add_argument("--send", action="store_true", help="or send the files to them and back")
    sub.add_argument("--resume", action="store_true", help="skip files that exist")
    sub.add_argument("--report", type=Path, metavar="FILE", help="write what became of each file as JSON")


def _add_render(sub: argparse.ArgumentParser) -> None:
    sub.add_argument("session", type=Path, metavar="SESSION")
    sub.add_argument("--out", type=Path, required=True, metavar="DIR")
    what = sub.add_mutually_exclusive_group()
    what.add_argument("--stems", action="store_true", help="every strip as well as the mix")
    what.add_argument("--strip", action="append", metavar="NAME", help="that strip alone; may be given several times")
    stretch = sub.add_mutually_exclusive_group()
    stretch.add_argument("--passage", metavar="NAME", help="that passage alone")
    stretch.add_argument("--loop", action="store_true", help="the session's loop alone")
    sub.add_argument("--format", choices=tuple(FORMATS), default="wav")
    sub.add_argument("--dtype", choices=tuple(DTYPES), help="default: float32, or pcm24 in FLAC")
    sub.add_argument("--oversample", type=int, choices=FACTORS, help="default: the session's printing quality")


def main(argv: list[str] | None = None) -> int:
    """Run a command; the exit status."""
    _open_standard_streams()
    arguments = parser().parse_args(argv)
    try:
        match arguments.command:
            case None:
                return _window([])
            case "demo":
                return _window([DEMO], apart=arguments.apart)
            case "open":
                for path in arguments.paths:
                    if not os.path.lexists(path):
                        raise ValueError(f"{path} is not there")
                return _window(arguments.paths, apart=arguments.apart)
        from yellow_ember.commands import run

        return run(arguments)
    except BrokenPipeError:
        # Whoever read our output has seen enough.
        sys.stderr.close()
        return 0
    except (ValueError, OSError) as error:
        say(f"yellow-ember: {error}")
        return 1
    except KeyboardInterrupt:
        say("yellow-ember: stopped")
        return 130
