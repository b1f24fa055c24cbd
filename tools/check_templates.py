"""Templates draw what a view made ready: none of them works anything out."""

import sys
from pathlib import Path

from jinja2 import nodes

from kovel.web.pages import environment

SUMS = (nodes.Add, nodes.Sub, nodes.Mul, nodes.Div, nodes.FloorDiv, nodes.Pow)


def main() -> int:
    env = environment()
    found = [
        f"{name}:{n.lineno}: {type(n).__name__}"
        for name in env.list_templates()
        for n in env.parse((Path("src/kovel/web/templates") / name).read_text()).find_all(SUMS)
    ]
    print(*found, sep="\n", end="\n" if found else "")
    return bool(found)


if __name__ == "__main__":
    sys.exit(main())
