"""Keys and passwords are never written down: what looks like one is refused before it reaches a record."""

from __future__ import annotations

import re
import unicodedata

from neogenesis.core.errors import BadArgument

#: Recovery keys of encrypted volumes: groups of six digits, eight in all. Part of one is a secret already.
_DIGIT_GROUPS = re.compile(r"(?<!\d)\d{6}(?:[\s.–-]*\d{6}){2,}(?!\d)")
#: Licence keys: groups of five letters and digits.
_LICENCE = re.compile(r"(?<![A-Z0-9])[A-Z0-9]{5}(?:-[A-Z0-9]{5}){3,}(?![A-Z0-9])", re.IGNORECASE)
#: Keys in hexadecimal or base 64, without a break.
_HEX = re.compile(r"(?<![0-9a-f])(?:[0-9a-f]{2}[:\s-]?){16,}(?![0-9a-f])", re.IGNORECASE)
_LONG = re.compile(r"[A-Za-z0-9+/_-]{28,}={0,2}")
_NAMED = re.compile(r"\b(?:pass(?:word|phrase|code)?|pin|kennwort|passwort)\s*(?:is|ist|:|=)\s*\S", re.IGNORECASE)
_LONGEST_NUMBER = 24


def secret_in(text: str, beside_key: bool = False) -> str:
    """What a text seems to hold that must not be written down, in words; empty for nothing.

    `beside_key`: where it is asked who holds a key, six digits in a row are the beginning of one.
    """
    plain = unicodedata.normalize("NFKC", text)
    plain = "".join(str(unicodedata.digit(c)) if c.isdigit() else c for c in plain)
    digits = re.findall(r"\d[\d\s-]*\d", plain)
    if _DIGIT_GROUPS.search(plain) or any(sum(c.isdigit() for c in run) > _LONGEST_NUMBER for run in digits):
        return "a recovery key"
    if _LICENCE.search(plain):
        return "a licence key"
    if _HEX.search(plain):
        return "a key"
    if any(_is_mixed(found) for found in _LONG.findall(plain)):
        return "a key"
    if beside_key and re.search(r"\d{6}", plain):
        return "a recovery key"
    return "a password" if _NAMED.search(plain) else ""


def _is_mixed(text: str) -> bool:
    """Letters and several digits without a break are no word."""
    return sum(c.isdigit() for c in text) >= 4 and any(c.isalpha() for c in text)


def refuse_secret(text: str, beside_key: bool = False) -> None:
    """Raises BadArgument for a text that looks like a secret; as `secret_in`."""
    found = secret_in(text, beside_key)
    if found:
        raise BadArgument(
            f"That looks like {found}; it was not written down.", "Note only who holds it, never the key itself."
        )
