"""The command line: the same abilities without a browser, on the same data folder, also while the server runs."""

import click

from kovel.cli import footage, hear, log, out, server, story, tight
from kovel.cli.common import Group


@click.group(cls=Group, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
def main() -> None:
    """Kovel: from hours of interview to a story cut.

    `kovel demo` opens the demo project in a browser; `kovel test` runs the tests.
    """


for command in (
    server.serve,
    server.demo,
    footage.list_,
    footage.import_,
    log.log,
    footage.search,
    footage.words,
    hear.transcribe,
    hear.find_pauses,
    hear.hits_,
    hear.beats_,
    story.story,
    tight.tighten,
    out.render,
    out.export,
):
    main.add_command(command)
