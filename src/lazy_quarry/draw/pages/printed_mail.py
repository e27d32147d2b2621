"""The document of a period, mailed."""

from __future__ import annotations

import tempfile
from base64 import b64encode
from datetime import tzinfo
from pathlib import Path
from textwrap import wrap
from typing import TYPE_CHECKING

from lazy_quarry.draw.pages.period_document import printed_report, read_answers
from lazy_quarry.draw.pages.printed import Paragraph
from lazy_quarry.draw.pages.printed_pages import write_pages
from lazy_quarry.files import ours

if TYPE_CHECKING:
    from lazy_quarry.link.site_client import SiteClient
    from lazy_quarry.views.outcomes import Outcome


def mail_report(
    client: SiteClient, words: str, where: dict[str, str], to: str, zone: tzinfo, anonymous: bool = False
) -> Outcome:
    """Mail the document of a period to an address, its first sentences as the text of the message."""
    printed = printed_report(read_answers(client, words, where), zone, anonymous)
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "report.pdf"
        write_pages(printed, path)
        document = b64encode(ours.read(path)).decode()
    first = [block.words for block in printed.blocks if isinstance(block, Paragraph)][:4]
    text = "\n\n".join(
        [*("\n".join(wrap(words, 76)) for words in first), "All of it is on the pages with this message."]
    )
    return client.post(to, printed.title, text, printed.title, document)
