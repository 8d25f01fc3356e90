"""Refuse functions that decide too much: branches, loops, handlers, ternaries, boolean operators, comprehensions.

The linter's own measure does not count the last three. Compiled kernels are left out: they cannot be cut at will.
"""

import ast
import sys
from pathlib import Path

MOST = 15
DECIDERS = (ast.If, ast.For, ast.While, ast.IfExp, ast.ExceptHandler, ast.comprehension, ast.BoolOp)


def decisions(function: ast.FunctionDef) -> int:
    return 1 + sum(isinstance(node, DECIDERS) for node in ast.walk(function))


def is_kernel(function: ast.FunctionDef) -> bool:
    return any("kernel" in ast.dump(decorator) for decorator in function.decorator_list)


def too_dense(root: Path) -> list[str]:
    trees = {path: ast.parse(path.read_text("utf-8")) for path in sorted(root.rglob("*.py"))}
    return [
        f"{path}:{node.lineno} {node.name} decides {decisions(node)} times; {MOST} is the most"
        for path, tree in trees.items()
        for node in ast.walk(tree)
        if isinstance(node, ast.FunctionDef) and not is_kernel(node) and decisions(node) > MOST
    ]


if __name__ == "__main__":
    complaints = too_dense(Path(sys.argv[1]))
    print("\n".join(complaints))
    sys.exit(bool(complaints))
