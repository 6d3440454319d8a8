"""Which system libraries Qt and PortAudio still need, asked from their own files, and Debian's packages that hold them.

`python -m yellow_ember.system_libraries` prints the packages that are missing, one a line; with `--owners` those that
hold the libraries in use on this Debian machine.  Uses nothing but the standard library, since it runs where nothing
else may load.
"""

from __future__ import annotations

import ctypes
import importlib.util
import os
import re
import subprocess
import sys
from pathlib import Path

_MODULES = ("QtCore", "QtGui", "QtWidgets", "QtDBus", "QtNetwork", "QtSvg")
_PLUGINS = ("platforms/libqxcb.so", "platforms/libqwayland*.so", "platforms/libqoffscreen.so", "xcbglintegrations/*.so",
            "wayland-shell-integration/*.so", "wayland-decoration-client/*.so",
            "wayland-graphics-integration-client/*.so", "imageformats/libqsvg.so", "iconengines/*.so")
_LOADED_BY_NAME = ("libportaudio.so.2",)
"""What is looked for at run time, so that no file names it."""
_FAMILIES = {"libglib-2.0.so.0": "libglib2.0-0", "libgthread-2.0.so.0": "libglib2.0-0",
             "libgobject-2.0.so.0": "libglib2.0-0", "libgio-2.0.so.0": "libglib2.0-0",
             "libgmodule-2.0.so.0": "libglib2.0-0", "libGL.so.1": "libgl1", "libEGL.so.1": "libegl1"}
"""Libraries whose package is not named after them alone."""


def debian_package(library: str) -> str:
    """The package that holds a shared library, by Debian policy 8.1: its name and version, in small letters.

    >>> debian_package("libxcb-cursor.so.0"), debian_package("libxkbcommon-x11.so.0"), debian_package("libdbus-1.so.3")
    ('libxcb-cursor0', 'libxkbcommon-x11-0', 'libdbus-1-3')
    """
    if library in _FAMILIES:
        return _FAMILIES[library]
    name, _, version = library.partition(".so.")
    name, version = name.lower().replace("_", "-"), version.partition(".")[0]
    return f"{name}-{version}" if name[-1:].isdigit() else f"{name}{version}"


def _qt_files() -> list[Path]:
    """Qt's own files whose needs count: the modules in use, and the plugins for X11, Wayland and tests."""
    result = importlib.util.find_spec("PyQt6")
    if result is None or not result.submodule_search_locations:
        return []
    package = Path(next(iter(result.submodule_search_locations)))
    files = [path for name in _MODULES for path in package.glob(f"{name}.abi3.so")]
    files += [path for name in _MODULES for path in package.glob(f"Qt6/lib/libQt6{name[2:]}.so.6")]
    return files + [path for pattern in _PLUGINS for path in sorted(package.glob(f"Qt6/plugins/{pattern}"))]


def missing_libraries() -> list[str]:
    """Names of shared libraries that are not there, as the dynamic linker asks for them."""
    missing: dict[str, None] = {}
    for path in _qt_files():
        missing |= dict.fromkeys(_needs(path))
    for name in _LOADED_BY_NAME:
        if not _loads(name):
            missing[name] = None
    return list(missing)


def _loads(name: str) -> bool:
    try:
        ctypes.CDLL(name)
    except OSError:
        return False
    return True


def missing_in(error: BaseException) -> str | None:
    """The library that an import failed for, or None where it failed for another reason.

    >>> missing_in(ImportError("libEGL.so.1: cannot open shared object file: No such file or directory"))
    'libEGL.so.1'
    """
    result = re.match(r"(lib\S+\.so\.\S+): cannot open shared object file", str(error))
    return result.group(1) if result else None


def install_hint(libraries: list[str]) -> str:
    """One line for the user: what is missing, and how to get it."""
    packages = " ".join(dict.fromkeys(debian_package(name) for name in libraries))
    return f"The system library {' and '.join(libraries)} is missing; install it with: sudo apt install {packages}"


def why_no_window() -> str | None:
    """Why Qt could not open a window here, in one line; None where it can.

    Qt ends the whole program where its plugin or the display is missing, so this is asked first.
    """
    platforms = [name.partition(":")[0] for name in os.environ.get("QT_QPA_PLATFORM", "").split(";") if name]
    if not platforms:
        shown = {"wayland": "WAYLAND_DISPLAY", "xcb": "DISPLAY"}
        platforms = [name for name, variable in shown.items() if os.environ.get(variable)]
    if not platforms:
        return "There is no display: neither DISPLAY nor WAYLAND_DISPLAY is set"
    reasons = [_why_not(name) for name in platforms]
    return None if None in reasons else reasons[0]


def _why_not(platform: str) -> str | None:
    """Why Qt's plugin of that name does not work here; None where it does, or can't be asked."""
    for path in _qt_files() if platform in ("xcb", "wayland") else ():
        if path.name.startswith(f"libq{platform}"):
            try:
                ctypes.CDLL(str(path))
            except OSError as error:
                return install_hint(_needs(path) or [missing_in(error) or path.name])
    return _why_no_x11() if platform == "xcb" else None


def _needs(path: Path) -> list[str]:
    """Libraries that one file needs and that are not there; none where the linker can't be asked."""
    return list(dict.fromkeys(re.findall(r"^\s*(\S+) => not found", _linked(path), re.MULTILINE)))


def _linked(path: Path) -> str:
    """What the dynamic linker says of a file; nothing where it can't be asked."""
    try:
        return subprocess.run(["ldd", str(path)], capture_output=True, text=True, check=False).stdout
    except OSError:
        return ""


def owning_packages() -> list[str]:
    """Debian packages that hold the system libraries in use here, beside those of the C compiler."""
    files = {result for path in _qt_files() for result in re.findall(r"=> (/(?:usr/)?lib/\S+)", _linked(path))}
    files |= {line.split(" => ")[1] for name in _LOADED_BY_NAME for line in subprocess.run(
        ["/sbin/ldconfig", "-p"], capture_output=True, text=True, check=False).stdout.splitlines() if name in line}
    # The dynamic linker and dpkg may name a file by its path before, or since, /lib became a part of /usr.
    bare = {path.removeprefix("/usr") for path in files}
    names = sorted(bare | {f"/usr{path}" for path in bare})
    result = subprocess.run(["dpkg-query", "-S", *names], capture_output=True, text=True, check=False).stdout
    return sorted(set(re.findall(r"^([^\s:]+):", result, re.MULTILINE)) - {"libc6", "libgcc-s1", "libstdc++6"})


def _why_no_x11() -> str | None:
    """Why the X server can't be reached, or None where it can."""
    xcb = ctypes.CDLL("libxcb.so.1")
    xcb.xcb_connect.restype = ctypes.c_void_p
    xcb.xcb_connection_has_error.argtypes = xcb.xcb_disconnect.argtypes = [ctypes.c_void_p]
    line = xcb.xcb_connect(None, None)
    failed = xcb.xcb_connection_has_error(line) != 0
    xcb.xcb_disconnect(line)
    return f"The display {os.environ.get('DISPLAY', '')!r} can't be reached" if failed else None


def main() -> int:
    missing = dict.fromkeys(debian_package(name) for name in missing_libraries())
    for package in owning_packages() if "--owners" in sys.argv[1:] else missing:
        print(package)
    return 0


if __name__ == "__main__":
    raise SystemExit(main())
