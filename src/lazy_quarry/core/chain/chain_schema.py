"""The JSON Schema of chain files (draft 2020-12), for editors that complete and check them."""

from typing import Any

from lazy_quarry.core.chain.chain import MOST_JOBS
from lazy_quarry.core.header.keys import CONDITIONS, KEYS

_NAME = {"type": "string", "pattern": "^[A-Za-z0-9][A-Za-z0-9._-]{0,63}$"}
_TEXTS = {"type": "array", "items": {"type": "string"}}


def chain_schema() -> dict[str, Any]:
    """The schema. Values of header keys are as free as the header lets them be; the check says what is wrong with one."""
    header: dict[str, Any] = {key: True for key in KEYS if key not in ("name", "after", "arguments")}
    after = {"type": "object", "additionalProperties": {"enum": list(CONDITIONS)}}
    job = {
        "type": "object",
        "properties": {
            **header,
            "script": {"type": "string", "description": "the path of a script, from the chain file's folder"},
            "commands": {**_TEXTS, "description": "lines of bash in place of a script"},
            "arguments": {**_TEXTS, "description": "words given to the script; {parameter} is filled in"},
            "after": {**after, "description": "which other jobs this one waits for, and how they must end"},
        },
        "oneOf": [{"required": ["script"]}, {"required": ["commands"]}],
        "additionalProperties": False,
    }
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "A chain of jobs for Lazy Quarry",
        "type": "object",
        "properties": {
            "name": _NAME,
            "notify": {
                "type": "object",
                "properties": {"to": {"type": "string"}, "on": _TEXTS},
                "required": ["to", "on"],
                "description": "mail when the chain as a whole is over",
            },
            "parameters": {"type": "object", "additionalProperties": {"type": ["string", "number"]}},
            "shared": {"type": "object", "properties": header, "additionalProperties": False},
            "jobs": {
                "type": "object",
                "propertyNames": _NAME,
                "additionalProperties": job,
                "minProperties": 1,
                "maxProperties": MOST_JOBS,
            },
        },
        "required": ["jobs"],
        "additionalProperties": False,
    }
