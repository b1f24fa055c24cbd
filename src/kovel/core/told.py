"""The one base of everything that is refused: a message for the editor, and what pages and command line answer with."""

from __future__ import annotations


class Told(Exception):
    """What cannot be done, in words for the editor: what happened, to what, what to do now. Nothing was changed."""

    status = 422  # of an answer over HTTP (RFC 9110)
    exit_code = 1  # of a command
