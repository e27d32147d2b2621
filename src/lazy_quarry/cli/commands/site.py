"""The command about the site file."""

import click

from lazy_quarry.cli.options import Usage, format_option, is_json, print_json, print_lines, say


@click.command("site")
@click.argument("what", metavar="check|schema|roles")
@click.argument("file", metavar="[FILE]", required=False, default="")
@format_option
def site_command(what: str, file: str, form: str) -> None:
    """Check a site file (this machine's, where none is named), print the JSON Schema of site files, or say who may do what."""
    from pathlib import Path

    from lazy_quarry.probe.machine import this_machine
    from lazy_quarry.site.site_file.site_file import SiteFileError, read_text, schema, site_file, site_of

    if what == "schema":
        print_json(schema())
        return
    if what == "roles":
        from lazy_quarry.cli.output.call_table import calls_json, role_lines

        print_json(calls_json()) if is_json(form) else print_lines(role_lines())
        return
    if what != "check":
        raise Usage(f'site {what}: there are "check", "schema" and "roles"')
    path = Path(file) if file else site_file()
    try:
        site_of(this_machine(), read_text(path), str(path))
    except FileNotFoundError:
        if file:
            raise Usage(f"{path} is not there") from None
        say(f"{path} is not there, which is fine: this machine needs none")
        return
    except SiteFileError as fault:
        print_lines(fault.problems)
        raise click.exceptions.Exit(1) from None
    say(f"{path}: nothing to say")
