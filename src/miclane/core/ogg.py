"""OGG files: their streams are told apart by a serial number, which an encoder draws by chance (RFC 3533)."""

from pathlib import Path

_POLYNOMIAL = 0x104C11DB7  # of the checksum of a page, the highest bit first
_HEAD = 27  # bytes of a page before its table: sizes, of a byte each, of what it holds


def renumber(path: Path, serial: int) -> None:
    """Give the one stream of a file this serial number (32 bits): the same sound is then the same file.

    A checksum is linear, so that of a page is mended by what the other number makes of it: nothing else is read.
    """
    powers = [2]  # x, x², x⁴ …
    new = serial.to_bytes(4, "little")
    with path.open("r+b") as file:
        at = 0
        while (head := file.read(_HEAD))[:4] == b"OggS" and len(head) == _HEAD:
            size = _HEAD + head[26] + sum(file.read(head[26]))
            changed = int.from_bytes(head[14:18], "big") ^ int.from_bytes(new, "big")
            behind = 8 * (size - 18) + 32  # bits after the number, and those of the checksum
            power, k = 1, 0
            while behind:
                if len(powers) <= k:
                    powers.append(_product(powers[-1], powers[-1]))
                if behind & 1:
                    power = _product(power, powers[k])
                behind, k = behind >> 1, k + 1
            checksum = int.from_bytes(head[22:26], "little") ^ _product(changed, power)
            file.seek(at + 14)
            file.write(new)
            file.seek(at + 22)
            file.write(checksum.to_bytes(4, "little"))
            at += size
            file.seek(at)


def _product(a: int, b: int) -> int:
    """Of two polynomials over the field of two elements, modulo that of the checksum."""
    found = 0
    while b:
        if b & 1:
            found ^= a
        a <<= 1
        if a >> 32:
            a ^= _POLYNOMIAL
        b >>= 1
    return found
