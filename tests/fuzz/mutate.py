"""Ways in which a file may be broken."""

import re

_NUMBER = re.compile(rb"(?<![\w.])-?\d+(?![\w.])")
_WILD = (b"-1", b"0", b"1", b"99999999", b"2147483648", b"9223372036854775807", b"1e308", b"nan", b"")


def _flip(data, random):
    out = bytearray(data)
    for _ in range(int(random.integers(1, 9))):
        out[int(random.integers(len(out)))] = int(random.integers(256))
    return bytes(out)


def _early_flip(data, random):
    """The head of a file is where its structure is told."""
    out = bytearray(data)
    for _ in range(int(random.integers(1, 5))):
        out[int(random.integers(min(len(out), 3000)))] ^= 1 << int(random.integers(8))
    return bytes(out)


def _cut(data, random):
    return data[: int(random.integers(len(data)))]


def _drop(data, random):
    begin = int(random.integers(len(data)))
    return data[:begin] + data[begin + int(random.integers(1, 200)):]


def _double(data, random):
    begin = int(random.integers(len(data)))
    end = begin + int(random.integers(1, 300))
    return data[:end] + data[begin:end] + data[end:]


def _zero(data, random):
    begin = int(random.integers(len(data)))
    size = int(random.integers(1, 64))
    return data[:begin] + b"\0" * size + data[begin + size:]


def _number(data, random):
    """A number in the text becomes another."""
    head = data[: 6000]
    places = list(_NUMBER.finditer(head))
    if not places:
        return _flip(data, random)
    chosen = places[int(random.integers(len(places)))]
    return head[: chosen.start()] + _WILD[int(random.integers(len(_WILD)))] + head[chosen.end():] + data[6000:]


def _swap(data, random):
    a, b = sorted(int(n) for n in random.integers(0, len(data), 2))
    size = int(random.integers(1, 40))
    return data[:a] + data[b:b + size] + data[a + size:b] + data[a:a + size] + data[b + size:]


WAYS = (_flip, _early_flip, _cut, _drop, _double, _zero, _number, _number, _swap)


def mutated(data, random):
    """The content of a file, broken in one or two ways."""
    for _ in range(1 if random.random() < 0.7 else 2):
        if not data:  # nothing is left to break
            break
        data = WAYS[int(random.integers(len(WAYS)))](data, random)
    return data
