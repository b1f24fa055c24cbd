"""How long an edit takes at the store, in a story of 2,000 pieces and 1,500 covers: `python -m bench.edits`.

Prints medians in ms, and as a ratio to one bare durable transaction on the same disk (the least any edit can cost).
"""

import random
import statistics
import tempfile
import time
from pathlib import Path

from kovel.core.plan.plan import make_plan
from kovel.core.story.model import Cover, Piece, Story, Tether
from kovel.core.story.patch import Patch
from kovel.core.time.rate import Rate
from kovel.data_folder import DataFolder
from kovel.store import history, projects, recordings, stories

PIECES, COVERS = 2000, 1500


def made(data: DataFolder) -> None:
    projects.create(data.db, "Long")
    facts = {
        "size": 1,
        "rate": [25, 1],
        "frames": 270_000,
        "picture": True,
        "sound": True,
        "width": 16,
        "height": 9,
        "channels": 1,
        "start_timecode": "",
        "remarks": [],
    }
    for i in range(6):
        recordings.add(data.db, 1, f"/nowhere/{i}.mov", f"r{i}", "interview", facts)
    rng = random.Random(1)
    pieces = tuple(
        Piece(i + 1, rng.randint(1, 3), rng.randrange(200_000), rng.randrange(40, 140)) for i in range(PIECES)
    )
    covers = []
    for k, p in enumerate(sorted(rng.sample(pieces, COVERS), key=lambda p: p.id)):
        covers.append(Cover(PIECES + 1 + k, rng.randint(4, 6), rng.randrange(9000), 30, Tether(p.id, p.start + 2), 1))
    story = Story(Rate(25), pieces, tuple(covers), (), frozenset(), PIECES + COVERS + 1)
    with data.db.write() as c:
        stories.write_rows(c, 1, Patch.between(Story(Rate(25)), story), None)


def timed(f: object, n: int = 25) -> float:
    rows = []
    for _ in range(n):
        t = time.perf_counter()
        f()  # type: ignore[operator]
        rows.append((time.perf_counter() - t) * 1000)
    return statistics.median(rows)


def main() -> None:
    with tempfile.TemporaryDirectory() as d:
        data = DataFolder(Path(d))
        made(data)
        rng = random.Random(2)

        def bare() -> None:
            with data.db.write() as c:
                c.execute("UPDATE story SET name = ? WHERE id = 1", (str(rng.random()),))

        base = timed(bare)
        n = stories.load(data.db, 1).story.length
        print(f"one bare durable transaction: {base:.1f} ms")
        for name, make in {
            "insert in the middle": lambda: (
                "insert",
                {"at": rng.randrange(n // 2), "source": 1, "start": 5, "length": 50},
            ),
            "extract": lambda: ("extract", {"a": (a := rng.randrange(n // 2)), "b": a + 60}),
            "lay cover": lambda: (
                "lay_cover",
                {"source": 4, "at": (a := rng.randrange(n // 2)), "until": a + 40, "start": 9},
            ),
            "move first to the end": lambda: (
                "move",
                {"piece": stories.load(data.db, 1).story.pieces[0].id, "before": None},
            ),
        }.items():
            ms = timed(lambda make=make: stories.edit(data.db, 1, None, *make()))
            print(f"{name}: {ms:.1f} ms, {ms / base:.1f} of it")
        ms = timed(lambda: history.undo(data.db, 1))
        print(f"undo: {ms:.1f} ms, {ms / base:.1f} of it")
        kept, sources = stories.load(data.db, 1), recordings.sources(data.db, 1)
        print(f"plan: {timed(lambda: make_plan(kept.story, sources)):.1f} ms")


if __name__ == "__main__":
    main()
