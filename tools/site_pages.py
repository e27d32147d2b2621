"""Pages of the documentation's site that come from elsewhere: the README, the helps of the commands, the changes."""

import re
from pathlib import Path

from mkdocs.structure.files import File

ROOT = Path(__file__).parents[1]
FROM_ROOT = {"begin.md": "README.md", "changes.md": "CHANGELOG.md", "contributing.md": "CONTRIBUTING.md"}


def on_files(files, config):
    """Add them to the pages of the folder."""
    for name, source in FROM_ROOT.items():
        files.append(File.generated(config, name, content=_moved((ROOT / source).read_text())))
    files.append(File.generated(config, "helps.md", content=_helps()))
    return files


def on_page_markdown(markdown, page, config, files):
    """Links out of the folder go to the pages that were made of those files."""
    return _moved(markdown)


def _moved(text):
    for name, source in FROM_ROOT.items():
        text = re.sub(rf"\]\((?:\.\./)?{re.escape(source)}", f"]({name}", text)
    return re.sub(r"\]\((?:\.\./)?docs/", "](", text)


def _helps():
    import click
    from click.testing import CliRunner

    from lazy_quarry.cli.command_table import COMMANDS
    from lazy_quarry.cli.main import Commands

    group, parts = Commands("lq"), ["# The helps of the commands\n"]
    for name, (_, words) in COMMANDS.items():
        told = CliRunner().invoke(group.get_command(click.Context(group), name), ["--help"], prog_name=f"lq {name}")
        parts.append(f"## lq {name}\n\n{words}\n\n```\n{told.output.rstrip()}\n```\n")
    return "\n".join(parts)
