"""What runs a script: its first line."""


def interpreter(script: str) -> str:
    """The name of the program in the interpreter line, or empty."""
    first = script.split("\n", 1)[0].rstrip("\r")
    if not first.startswith("#!"):
        return ""
    words = first[2:].split()
    if words and words[0].endswith("/env"):
        words = [word for word in words[1:] if not word.startswith("-") and "=" not in word]
    return words[0].rsplit("/", 1)[-1] if words else ""
