"""Whatever is compiled is compiled when Gambrel is set up, not when a planner first asks for it."""

from __future__ import annotations

import ast
import importlib
from pathlib import Path

import pytest
from numba.core.dispatcher import Dispatcher

import gambrel
from gambrel.commands.compiling import compile_engine

SOURCES = Path(gambrel.__file__).parent


def modules():
    for path in sorted((SOURCES / "core").rglob("*.py")):
        yield path, "gambrel." + ".".join(path.relative_to(SOURCES).with_suffix("").parts)


def is_compiled(node):
    return isinstance(node, ast.FunctionDef) and any(
        "njit" in ast.dump(decorator) for decorator in node.decorator_list
    )


def called_from_python(node):
    """Names that are called by anything in a tree but its compiled functions."""
    for child in ast.iter_child_nodes(node):
        if is_compiled(child):
            continue
        if isinstance(child, ast.Call) and isinstance(child.func, ast.Name):
            yield child.func.id
        yield from called_from_python(child)


def entries():
    """The compiled functions that Python calls, by module and name."""
    for path, name in modules():
        tree = ast.parse(path.read_text(encoding="utf-8"))
        called = set(called_from_python(tree))
        module = importlib.import_module(name.removesuffix(".__init__"))
        for one in called:
            if isinstance(found := getattr(module, one, None), Dispatcher):
                yield f"{found.py_func.__module__}.{one}", found


@pytest.fixture(scope="module")
def ready():
    compile_engine()


ENTRIES = dict(entries())


def test_there_are_some():
    assert {"advance", "walk_members", "take_up"} <= {name.rsplit(".", 1)[1] for name in ENTRIES}


@pytest.mark.parametrize("name", sorted(ENTRIES))
def test_it_is_compiled_when_gambrel_is_set_up(ready, name):
    assert ENTRIES[name].signatures
