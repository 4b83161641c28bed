"""Checksum files that lie beside an image: the forms that the usual utilities write.

Source: coreutils' md5sum(1), sha256sum(1) and their `--tag` form.
"""

from __future__ import annotations

import re
from dataclasses import dataclass

_PLAIN = re.compile(r"^\\?([0-9a-fA-F]{32,128}) [ *](.+)$")
_TAGGED = re.compile(r"^(MD5|SHA1|SHA224|SHA256|SHA384|SHA512) \((.+)\) = ([0-9a-fA-F]{32,128})$")
_BARE = re.compile(r"^([0-9a-fA-F]{32,128})$")
_BY_LENGTH = {32: "md5", 40: "sha1", 56: "sha224", 64: "sha256", 96: "sha384", 128: "sha512"}
#: The better kinds first: of several, one is enough.
STRENGTH = ("sha512", "sha384", "sha256", "sha224", "sha1", "md5")


@dataclass(frozen=True, slots=True)
class Checksum:
    """`algorithm` as hashlib names it."""

    algorithm: str
    digest: str


def listed_checksum(text: str, image_name: str, own: bool) -> tuple[Checksum | None, bool]:
    """The checksum of an image in such a file, and whether the file holds any at all.

    `own` is for a file that is named after the image: it may hold nothing but the checksum.
    """
    found: list[Checksum] = []
    holds = False
    for line in text.splitlines()[:100_000]:
        stripped = line.strip()
        if match := _TAGGED.match(stripped):
            algorithm, name, digest = match[1].lower(), match[2], match[3]
        elif match := _PLAIN.match(stripped):
            algorithm, name, digest = _BY_LENGTH.get(len(match[1]), ""), match[2], match[1]
        elif own and (match := _BARE.match(stripped)):
            algorithm, name, digest = _BY_LENGTH.get(len(match[1]), ""), image_name, match[1]
        else:
            continue
        if not algorithm:
            continue
        holds = True
        if name.replace("\\", "/").rsplit("/", 1)[-1] == image_name:
            found.append(Checksum(algorithm, digest.lower()))
    found.sort(key=lambda c: STRENGTH.index(c.algorithm))
    return (found[0] if found else None), holds
