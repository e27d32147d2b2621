"""Sending mail to a relay by SMTP (RFC 5321), over TLS where it is offered (RFC 3207), with a login (RFC 4954)."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Literal

from msgspec import Struct

from lazy_quarry.files import given

if TYPE_CHECKING:
    import ssl

TIMEOUT_S = 30.0


class Relay(Struct, frozen=True):
    """Where mail goes out. ``tls``: from the start, by STARTTLS, by STARTTLS where it is offered, or never."""

    host: str
    port: int = 25
    tls: Literal["starttls", "tls", "offered", "none"] = "offered"
    user: str = ""
    password_file: str = ""


class NotNow(Exception):
    """The relay took nothing now: all mail is tried again. As text: why."""


class Later(Exception):
    """The relay takes mail, but not this message now: it is tried again. As text: why."""


class Never(Exception):
    """The relay will not take it: trying again is of no use. As text: why."""


def send(relay: Relay, raw: bytes) -> None:
    """Hand a message over. Raises :class:`NotNow`, :class:`Later` or :class:`Never`."""
    import smtplib  # only who sends mail pays for it
    import ssl
    from email import message_from_bytes, policy

    message = message_from_bytes(raw, policy=policy.SMTP)
    where = f"{relay.host}:{relay.port}"
    try:
        context = ssl.create_default_context()
        if relay.tls == "tls":
            server: smtplib.SMTP = smtplib.SMTP_SSL(relay.host, relay.port, timeout=TIMEOUT_S, context=context)
        else:
            server = smtplib.SMTP(relay.host, relay.port, timeout=TIMEOUT_S)
        with server:
            server.ehlo()
            if relay.tls == "starttls" or (relay.tls == "offered" and server.has_extn("starttls")):
                server.starttls(context=context if relay.tls == "starttls" else _unchecked())
                server.ehlo()
            if relay.user:
                if not isinstance(server.sock, ssl.SSLSocket) and relay.host not in ("localhost", "127.0.0.1", "::1"):
                    raise NotNow(f"{where} offers no TLS, and a password is sent over nothing else")
                server.login(relay.user, _password(relay.password_file))
            server.send_message(message)
    except smtplib.SMTPRecipientsRefused as fault:
        code, words = next(iter(fault.recipients.values()))
        _raise(code, f"{where} refused the address: {_text(words)}")
    except smtplib.SMTPAuthenticationError as fault:
        raise NotNow(f"{where} refused the login of {relay.user}: {_text(fault.smtp_error)}") from None
    except smtplib.SMTPResponseException as fault:
        of_this = isinstance(fault, smtplib.SMTPDataError | smtplib.SMTPSenderRefused)
        _raise(fault.smtp_code, f"{where} said: {fault.smtp_code} {_text(fault.smtp_error)}", of_this)
    except smtplib.SMTPException as fault:
        raise NotNow(f"{where}: {_text(str(fault))}") from None
    except ssl.SSLError as fault:
        raise NotNow(f"{where}: its certificate cannot be trusted, or there is no TLS ({fault.reason})") from None
    except (OSError, EOFError) as fault:
        raise NotNow(f"{where} does not answer ({getattr(fault, 'strerror', None) or fault})") from None


def _raise(code: int, words: str, of_this: bool = True) -> None:
    """Raise what a reply code means, for one message or for all; 421 is the relay's own leaving (RFC 5321, 3.8)."""
    raise (Never if 500 <= code < 600 else Later if of_this and code != 421 else NotNow)(words) from None


def _text(words: bytes | str) -> str:
    told = words.decode(errors="replace") if isinstance(words, bytes) else words
    return " ".join(told.split())[:200]


def _unchecked() -> ssl.SSLContext:
    """For TLS that is taken because it is offered: it keeps listeners out, and nobody asked for more (RFC 7435)."""
    import ssl

    context = ssl.create_default_context()
    context.check_hostname = False
    context.verify_mode = ssl.CERT_NONE
    return context


def _password(path: str) -> str:
    if not path:
        return ""
    try:
        return given.read_whole(Path(path).expanduser(), 4096).decode().strip()
    except (OSError, UnicodeDecodeError) as fault:
        raise NotNow(
            f"the password for the mail relay cannot be read from {path}: {getattr(fault, 'strerror', None) or 'it is not text'}"
        ) from None
