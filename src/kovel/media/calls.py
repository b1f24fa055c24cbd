"""Every call that a child makes (`kovel.media.child`): where its function lies, what it may use up, and how much it
gives way.

A new one is a line here and a function of that name, which takes the call's parameters and `progress`.
"""

from dataclasses import dataclass
from enum import StrEnum


class Place(StrEnum):
    """Where a call is worked on when there are other machines."""

    ANYWHERE = "anywhere"
    NEAR = "near"  # small, or waited for: here as long as somebody is free here, where the files are
    HERE = "here"  # of cards and folders of this machine, or to where the editor wants it


@dataclass(frozen=True, slots=True)
class Call:
    """One call and its limits.

    :param module: in `kovel.media`, or a full path
    :param cpu: seconds of processor time
    :param memory: GiB of address space
    :param wall: seconds from its beginning; None as long as it tells progress
    :param niceness: 0 for what the editor waits for; all else gives way to playing and editing
    :param is_batch: it gives way most of all, yet not so much that a busy machine never comes to it
    :param is_swift: what a recording opens with, or what is about to be heard: a place is kept for it
    :param begins_files: it writes beside where its result will be, under names of its own
    :param tells_progress: whether its function takes `progress`
    """

    name: str
    module: str
    cpu: int
    memory: float
    wall: float | None = None
    niceness: int = 5
    is_batch: bool = False
    is_swift: bool = False
    begins_files: bool = False
    tells_progress: bool = True
    place: Place = Place.ANYWHERE

    @property
    def path(self) -> str:
        """The module to be imported."""
        return self.module if "." in self.module else f"kovel.media.{self.module}"


HOUR = 3600
SENT = "kovel.exchange.sent_files"

CALLS = {
    call.name: call
    for call in (
        # looked at while somebody waits
        Call("probe", "probe", 25, 4, 30, niceness=0, tells_progress=False),
        Call("glance", "glance", 25, 4, 30, niceness=0, tells_progress=False),
        Call("views", "glance", 60, 4, 60, niceness=0),
        Call("draw_title", "title_pictures", 25, 2, 30, niceness=0),
        # a recording made ready
        Call("make_index", "own_pictures", 600, 4, niceness=0, is_swift=True, place=Place.NEAR),
        Call("make_heard_sound", "listen", 12 * HOUR, 16, is_swift=True, place=Place.NEAR),
        Call("make_look", "derive", HOUR, 12, niceness=10, is_batch=True, is_swift=True, place=Place.NEAR),
        Call("make_pieces", "pieces", 6 * HOUR, 12, niceness=10, is_batch=True),
        Call("finish", "derive", 6 * HOUR, 12, niceness=10, is_batch=True),
        Call("derive", "derive", 6 * HOUR, 12, place=Place.NEAR),
        # listened to
        Call("listen", "listen", 6 * HOUR, 16, place=Place.NEAR),
        Call("pulse", "listen", 6 * HOUR, 16, place=Place.NEAR),
        Call("voices", "listen", 3 * HOUR, 8),
        Call("sync_by_sound", "listen", 6 * HOUR, 16),
        Call("transcribe", "transcribe", 48 * HOUR, 24, niceness=10),
        Call("align_text", "transcribe", 6 * HOUR, 16),
        Call("meant", "sentence_vectors", 24 * HOUR, 8),
        # sound made of recordings
        Call("clean", "clean", 12 * HOUR, 16),
        Call("retime", "retimed_sound", HOUR, 8, niceness=0, is_swift=True, place=Place.NEAR),
        Call("measure", "measure", 12 * HOUR, 16, niceness=0),
        Call("tone", "measure", HOUR, 16, niceness=0),
        # files out, and files taken from elsewhere
        Call("render", "render", 24 * HOUR, 16, niceness=0, begins_files=True),
        Call("render_parts", "render", 24 * HOUR, 16, niceness=0),
        Call("archive", "archive_files", 12 * HOUR, 4, niceness=0, begins_files=True, place=Place.HERE),
        Call("unpack", "archive_files", 12 * HOUR, 4, niceness=0),
        Call("copy", "copying", 12 * HOUR, 4, niceness=0, place=Place.HERE),
        Call("compare", "comparing", 24 * HOUR, 4, place=Place.HERE),
        *(
            Call(name, SENT, 50, 2, 60, niceness=0)
            for name in ("read_timeline", "read_events", "read_words", "read_cues", "read_table")
        ),
        Call("read_font", SENT, 25, 1, 30, niceness=0),
    )
}
