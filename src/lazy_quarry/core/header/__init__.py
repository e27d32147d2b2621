"""The job header: the TOML block in a script that holds its request, in PEP 723's inline-metadata form."""

from lazy_quarry.core.header.block import Block, find_block
from lazy_quarry.core.header.check import Checked, check_script
from lazy_quarry.core.header.diagnostic import Diagnostic, Severity
from lazy_quarry.core.header.edit import set_key

__all__ = ["Block", "Checked", "Diagnostic", "Severity", "check_script", "find_block", "set_key"]
