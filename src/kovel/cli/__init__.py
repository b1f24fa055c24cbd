"""The command line: the same abilities without a browser, on the same data folder, also while the server runs."""

from importlib import import_module

import click

from kovel.cli.common import Group

COMMANDS = {  # name -> module and function; each is loaded when it is called, so that a short answer comes at once
    "serve": "server.serve",
    "demo": "server.demo",
    "worker": "worker_commands.worker",
    "certs": "worker_commands.certs",
    "list": "footage.list_",
    "import": "footage.import_",
    "search": "footage.search",
    "words": "footage.words",
    "log": "log_commands.log",
    "transcribe": "hear.transcribe",
    "pauses": "hear.find_pauses",
    "voices": "hear.voices",
    "hits": "hear.hits_",
    "beats": "hear.beats_",
    "tighten": "tight.tighten",
    "story": "story_commands.story",
    "render": "out.render",
    "sync": "hear.sync_",
    "export": "out.export",
    "set": "footage.set_",
    "clean": "sound.clean",
    "loudness": "sound.loudness",
    "music-fit": "sound.music_fit",
    "sound": "sound.sound",
    "picture": "picture.picture",
    "captions": "out.captions",
    "papers": "out.papers",
    "archive": "archive_commands.archive",
    "relink": "finding.relink",
    "verify": "finding.verify",
    "card": "card_commands.card",
    "backup": "keeping.backup",
    "restore": "keeping.restore",
    "doctor": "keeping.doctor",
    "themes": "meaning_commands.themes",
    "bin": "bin_commands.bin_",
    "propose": "meaning_commands.propose",
}


class Lazy(Group):
    """Commands by name, imported on demand."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The commands by name, none of them loaded."""
        return sorted(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """One command; its module is loaded only now."""
        if name not in COMMANDS:
            return None
        module, function = COMMANDS[name].split(".")
        command: click.Command = getattr(import_module(f"kovel.cli.{module}"), function)
        return command


@click.group(cls=Lazy, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
def main() -> None:
    """Kovel: from hours of interview to a story cut.

    `kovel demo` opens the demo project in a browser; `kovel test` runs the tests.
    """
