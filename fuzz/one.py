"""One target under libFuzzer: ``python -m fuzz.one TARGET [libFuzzer's own arguments]``."""

import sys

import atheris

with atheris.instrument_imports(include=["lazy_quarry"]):
    from fuzz.targets import TARGETS


def main() -> None:
    """Fuzz until libFuzzer is told to stop."""
    target = TARGETS[sys.argv.pop(1)]
    atheris.Setup(sys.argv, target)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
