#!/usr/bin/env python3
"""How the house stands: who needs whom across folders, what is too long, how much is tests.

    house.py           tells all of it
    house.py --check   tells what is worse than it may be, and ends with 1 if anything is

A folder of a crate uses only those above it in ORDER. A use upwards is refused, and so is a circle of more than a
few files.
"""

import re
import sys
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
# From below to above, by crate.
ORDER = {
    "store": "fs catalogue rights txn ops files engine reconcile timeline people sharing audit backup start".split(),
    "server": (
        "config http mail state console identity dto transfer jobs dav api methods strangers "
        "middleware routes control service commands"
    ).split(),
}
LONGEST_FILE = 600
LONGEST_FUNCTION = 100
# Files that need each other in a round, inside one folder.
LARGEST_CIRCLE = 8
# Files and functions that are longer still; none is added.
LONG_FILES = 0
LONG_FUNCTIONS = 16


def code(text):
    """Without comments, and without the tests at its end."""
    at = text.find("#[cfg(test)]\nmod tests")
    return re.sub(r"//[^\n]*", "", text if at < 0 else text[:at])


def modules(src):
    found = {}
    for path in src.rglob("*.rs"):
        name = str(path.relative_to(src))[:-3].replace("/", "::")
        found[name.removesuffix("::mod")] = path
    return found


def uses(src):
    """Which module needs which."""
    all_of = modules(src)

    def known(path):
        parts = path.split("::")
        for n in range(len(parts), 0, -1):
            name = "::".join(parts[:n])
            if name in all_of and name not in ("lib", "main"):
                return name
        return None

    edges = {}
    for name, path in all_of.items():
        text = code(path.read_text())
        wanted = re.findall(r"crate::((?:\w+::)*\w+)", text)
        for group in re.findall(r"crate::((?:\w+::)*)\{([^}]*)\}", text):
            wanted += [group[0] + part.strip().split(" as ")[0] for part in group[1].split(",")]
        above = name.split("::")[:-1]
        wanted += ["::".join(above + [path]) for path in re.findall(r"super::((?:\w+::)*\w+)", text)]
        edges[name] = {t for t in map(known, wanted) if t} - {name}
    return edges


def circles(edges):
    """Modules that need each other, in a round (Tarjan)."""
    index, low, stack, found = {}, {}, [], []

    def visit(at):
        index[at] = low[at] = len(index)
        stack.append(at)
        for to in edges[at]:
            if to not in edges:
                continue
            if to not in index:
                visit(to)
                low[at] = min(low[at], low[to])
            elif to in stack:
                low[at] = min(low[at], index[to])
        if low[at] == index[at]:
            one = stack[stack.index(at):]
            del stack[stack.index(at):]
            if len(one) > 1:
                found.append(sorted(one))

    for at in edges:
        if at not in index:
            visit(at)
    return found


def between_handlers(edges):
    """Handlers that use something of another area's handlers: what several need is no handler's."""
    area = lambda name: name.split("::")[1] if name.startswith("api::") and name.count("::") == 2 else None
    return [(a, b) for a in edges for b in edges[a] if area(a) and area(b) and area(a) != area(b)]


def upwards(crate):
    """Uses of something above, by pair of folders."""
    order, found = ORDER[crate], {}
    for name, wanted in uses(ROOT / "crates" / crate / "src").items():
        here = name.split("::")[0]
        for other in wanted:
            there = other.split("::")[0]
            if here in order and there in order and order.index(there) > order.index(here):
                found.setdefault((crate, here, there), []).append((name, other))
    return found


def functions(text):
    """The functions that are too long: name, line, lines."""
    lines, found, begun = text.split("\n"), [], None
    for n, line in enumerate(lines):
        head = re.match(r"^(\s*)(?:pub(?:\([^)]*\))? )?(?:const |async |unsafe )*fn (\w+)", line)
        if head and begun is None:
            begun = (head.group(1), head.group(2), n)
        elif begun and re.match(rf"^{begun[0]}}}", line):
            if n - begun[2] + 1 > LONGEST_FUNCTION:
                found.append((begun[1], begun[2] + 1, n - begun[2] + 1))
            begun = None
        elif begun and n == begun[2] and line.rstrip().endswith(";"):
            begun = None
    return found


def sources():
    for place in ("crates", "demo", "console/src", "console/tests"):
        for path in sorted((ROOT / place).rglob("*")):
            if path.suffix in (".rs", ".ts", ".tsx") and "node_modules" not in path.parts and path.name != "api-types.ts":
                yield path


def main():
    check = "--check" in sys.argv[1:]
    wrong = []
    above = {pair: which for crate in ORDER for pair, which in upwards(crate).items()}
    for (crate, here, there), which in sorted(above.items()):
        if not check:
            print(f"{crate}: {here} uses {there} above it, {len(which)} times")
            for one, other in sorted(which):
                print(f"    {one} -> {other}")
        wrong.append(f"{crate}: {here} uses {there} above it, {len(which)} times")
    for crate in ORDER:
        edges = uses(ROOT / "crates" / crate / "src")
        for circle in sorted(circles(edges), key=len, reverse=True):
            if not check:
                print(f"{crate}: {len(circle)} need each other: {' '.join(circle)}")
            if len(circle) > LARGEST_CIRCLE:
                wrong.append(f"{crate}: {len(circle)} files need each other; at most {LARGEST_CIRCLE} may")
        for one, other in between_handlers(edges):
            wrong.append(f"{crate}: the handlers {one} use {other}, another area's")
    tests, others, long_files, long_functions = 0, 0, [], []
    for path in sources():
        text = path.read_text()
        lines = text.count("\n")
        at = text.find("#[cfg(test)]\nmod tests")
        if "tests" in path.parts or "e2e" in path.parts or "trials" in path.parts:
            tests += lines
        else:
            inside = 0 if at < 0 else text[at:].count("\n")
            tests, others = tests + inside, others + lines - inside
            if lines - inside > LONGEST_FILE:
                long_files.append((lines - inside, path.relative_to(ROOT)))
            if path.suffix == ".rs":
                long_functions += [(n, path.relative_to(ROOT), name) for name, _, n in functions(code(text))]
    if not check:
        for lines, path in sorted(long_files, reverse=True):
            print(f"{lines} lines: {path}")
        for lines, path, name in sorted(long_functions, reverse=True):
            print(f"{lines} lines in one function: {name} in {path}")
        print(f"{others} lines, and {tests} of tests: {tests / (tests + others):.0%}")
        print(f"{len(long_files)} files over {LONGEST_FILE} lines, {len(long_functions)} functions over {LONGEST_FUNCTION}")
    if len(long_files) > LONG_FILES:
        wrong.append(f"{len(long_files)} files are over {LONGEST_FILE} lines; {LONG_FILES} were")
    if len(long_functions) > LONG_FUNCTIONS:
        wrong.append(f"{len(long_functions)} functions are over {LONGEST_FUNCTION} lines; {LONG_FUNCTIONS} were")
    for line in wrong:
        print(line, file=sys.stderr)
    return 1 if check and wrong else 0


if __name__ == "__main__":
    sys.exit(main())
