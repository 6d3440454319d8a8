"""The shape of the program: no circles of imports, nothing keyed by a stage's or parameter's name outside its file."""

from __future__ import annotations

import ast
from graphlib import CycleError, TopologicalSorter
from pathlib import Path

from yellow_ember.dsp.stage_values import STAGE_VALUES
from yellow_ember.dsp.stages import STAGES
from yellow_ember.session.values.strip_values import SEND_LEVEL, STRIP_VALUES

SOURCE = Path(__file__).parents[1] / "src"


def imports_of(path: Path, modules: set[str]) -> set[str]:
    """The modules of ours that a file imports, for types alone as well."""
    result = set()
    for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
        if isinstance(node, ast.Import):
            result |= {alias.name for alias in node.names}
        elif isinstance(node, ast.ImportFrom) and node.module is not None:
            inside = {f"{node.module}.{alias.name}" for alias in node.names}
            result |= inside & modules or {node.module}
    return result & modules


def module_of(path: Path) -> str:
    return ".".join(path.relative_to(SOURCE).with_suffix("").parts).removesuffix(".__init__")


def test_no_file_imports_itself_round_others() -> None:
    files = {module_of(path): path for path in SOURCE.rglob("*.py")}
    graph = {module: imports_of(path, set(files)) - {module} for module, path in files.items()}
    try:
        list(TopologicalSorter(graph).static_order())
    except CycleError as error:
        raise AssertionError(" -> ".join(error.args[1])) from None


def test_nothing_outside_the_processing_is_keyed_by_a_parameter_s_or_stage_s_name() -> None:
    """What concerns one stage stands in its declaration: adding one touches its file and the list of them alone.

    Migrations of files name what was there once.
    """
    shared = {value.id for value in (*STAGE_VALUES, *STRIP_VALUES, SEND_LEVEL)}
    own = {parameter.id for kind in STAGES for parameter in kind.parameters if "_" in parameter.id} - shared
    kinds = {kind.kind for kind in STAGES}
    result = []
    for path in SOURCE.rglob("*.py"):
        if "dsp" in path.relative_to(SOURCE).parts or path.name == "migrations.py":
            continue
        for node in ast.walk(ast.parse(path.read_text(encoding="utf-8"))):
            if isinstance(node, ast.Constant) and node.value in own:
                result.append(f"{path.name}:{node.lineno} {node.value}")
            if isinstance(node, ast.Compare) and ast.unparse(node.left).endswith(".kind"):
                result += [f"{path.name}:{node.lineno} {other.value}" for other in node.comparators
                           if isinstance(other, ast.Constant) and other.value in kinds]
    assert result == []


def test_every_stage_says_what_is_in_front_and_what_suits_it() -> None:
    kinds = {kind.kind for kind in STAGES}
    for kind in STAGES:
        assert set(kind.neighbours) <= kinds - {kind.kind}, kind.kind
        assert kind.neighbours, kind.kind
        assert kind.drive is None or kind.drive in kind.front, kind.kind


def test_tests_hardly_use_private_names() -> None:
    """What a test needs is something that a view needs too, or it tests how instead of what."""
    used = [f"{path.name}:{node.lineno} {node.attr}" for path in Path(__file__).parent.glob("*.py")
            for node in ast.walk(ast.parse(path.read_text(encoding="utf-8")))
            if isinstance(node, ast.Attribute) and node.attr.startswith("_") and not node.attr.startswith("__")
            and ast.unparse(node.value) != "self"]
    assert len(used) < 40, used
