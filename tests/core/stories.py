"""Made stories for tests: sources of every kind and short names for edits."""

from kovel.core.story.catalogue import run
from kovel.core.story.model import Source, Story
from kovel.core.time.rate import Rate

R = Rate(25)
SOURCES = {
    1: Source(1, "A", R, 2000, setup="x", channels=1),
    2: Source(2, "B", R, 1500, setup="y"),
    3: Source(3, "boat", R, 300, sound=False),
    4: Source(4, "fifty", Rate(50), 801),
    5: Source(5, "still", R, None, sound=False),
    6: Source(6, "voice", R, 900, picture=False),
    7: Source(7, "ntsc", Rate(30000, 1001), 1000, setup="x"),
}
EMPTY = Story(R)


def do(story: Story, name: str, **params: object) -> Story:
    return run(story, SOURCES, name, params)[0]


def three() -> Story:
    """| A 100..200 | A 300..360 | B 0..80 | with pieces 1, 2, 3."""
    s = EMPTY
    for source, start, length in ((1, 100, 100), (1, 300, 60), (2, 0, 80)):
        s = do(s, "add_at_end", source=source, start=start, length=length)
    return s
