"""What is refused, in words for the editor; pages and command line answer with it. Other modules name kinds of their
own."""

from __future__ import annotations


class Told(Exception):
    """What cannot be done, in words for the editor: what happened, to what, what to do now. Nothing was changed."""

    status = 422  # of an answer over HTTP (RFC 9110)
    exit_code = 1  # of a command


class Invalid(Told, ValueError):
    """Something typed cannot be kept; the message is for the editor."""


class Missing(Told, LookupError):
    """What was asked for is not there (any more)."""

    status = 404
    exit_code = 4
