class LinkError(ValueError):
    """Bytes that cannot be read, or a value that cannot be sent."""


class Truncated(LinkError):
    """The bytes end inside a section."""


class TooMany(LinkError):
    """A count is above its maximum."""


class OutOfRange(LinkError):
    """A value does not fit its field."""


class NoForm(LinkError):
    """No form belongs to the deciding number."""


class BadNumber(LinkError):
    """A compact number has too many bits."""


class Entry(NamedTuple):
    """An entry of a table: its key, what the host may do, whether the device keeps it over a restart, and its unit."""

    key: int
    may_read: bool
    may_write: bool
    is_kept: bool
    unit: str
    #: With how many decimals a number is shown; of others 0.
    decimals: int
    #: The least and the greatest physical value of a number, and the difference between two neighbours.
    least: Optional[float]
    greatest: Optional[float]
    step: Optional[float]


class Form(NamedTuple):
    """A value whose form another number decides: the name of the form, and the value."""

    name: str
    value: Any


class _Reader:
    """A place in some bytes, counted in bits in the order in which they are filled."""

    __slots__ = ("bit", "body", "end", "key")

    def __init__(self, body: bytes, key: Optional[int]) -> None:
        self.body = body
        self.end = len(body)
        self.bit = 0
        self.key = key

    def need(self, bits: int) -> None:
        if self.bit + bits > self.end * 8:
            raise Truncated(f"the bytes end at {self.end}; at least {-(-(self.bit + bits) // 8)} are needed")

    def align(self) -> None:
        self.bit = (self.bit + 7) // 8 * 8

    def get(self, width: int, order: Literal["little", "big"]) -> int:
        self.need(width)
        at, self.bit = self.bit, self.bit + width
        first = at // 8
        if order == "little":
            some = int.from_bytes(self.body[first : (at + width + 7) // 8], "little")
            return some >> at % 8 & (1 << width) - 1
        last = (at + width + 7) // 8
        return int.from_bytes(self.body[first:last], "big") >> last * 8 - at - width & (1 << width) - 1

    def varint(self, width: int) -> int:
        value = 0
        for shift in range(0, width, 7):
            byte = self.get(8, "little")
            group = byte & 0x7F
            if width - shift < 7 and group >> width - shift:
                break
            value |= group << shift
            if not byte & 0x80:
                return value
        raise BadNumber(f"a compact number has more than {width} bits")

    def count(self, most: int, order: Literal["little", "big"]) -> int:
        count = self.get(8 if most < 256 else 16, order)
        if count > most:
            raise TooMany(f"{count} are more than {most}")
        return count

    def take(self, count: int, order: Literal["little", "big"]) -> bytes:
        self.need(count * 8)
        if self.bit % 8:
            return bytes(self.get(8, order) for _ in range(count))
        first = self.bit // 8
        self.bit += count * 8
        return self.body[first : first + count]

    def rest(self) -> bytes:
        self.need(0)
        first, self.bit = self.bit // 8, self.end * 8
        return self.body[first : self.end]


class _Writer:
    """Bytes that are filled bit by bit."""

    __slots__ = ("bit", "out")

    def __init__(self) -> None:
        self.out = bytearray()
        self.bit = 0

    def reach(self) -> None:
        lacking = (self.bit + 7) // 8 - len(self.out)
        if lacking > 0:
            self.out += bytes(lacking)

    def align(self) -> None:
        self.bit = (self.bit + 7) // 8 * 8
        self.reach()

    def put(self, value: int, width: int, order: Literal["little", "big"]) -> None:
        at, self.bit = self.bit, self.bit + width
        self.reach()
        first, last = at // 8, (at + width + 7) // 8
        shift = at % 8 if order == "little" else last * 8 - at - width
        some = int.from_bytes(self.out[first:last], order) | (value & (1 << width) - 1) << shift
        self.out[first:last] = some.to_bytes(last - first, order)

    def varint(self, value: int) -> None:
        while value > 0x7F:
            self.put(value & 0x7F | 0x80, 8, "little")
            value >>= 7
        self.put(value, 8, "little")

    def count(self, count: int, most: int, order: Literal["little", "big"], what: str) -> None:
        if count > most:
            raise TooMany(f"{what}: {count} are more than {most}")
        self.put(count, 8 if most < 256 else 16, order)

    def bytes(self, some: bytes, order: Literal["little", "big"]) -> None:
        if self.bit % 8:
            for byte in some:
                self.put(byte, 8, order)
            return
        first = self.bit // 8
        self.bit += len(some) * 8
        self.reach()
        self.out[first : first + len(some)] = some


def _out_of_range(what: str, value: object) -> OutOfRange:
    return OutOfRange(f"{what}: {value!r} does not fit")


def _nearest(value: float) -> int:
    """The nearest whole number; of two that are as near the one away from zero."""
    return math.floor(value + 0.5) if value >= 0 else -math.floor(-value + 0.5)


def _signed(raw: int, width: int) -> int:
    return raw - (1 << width) if raw >> width - 1 else raw


def _text(some: bytes) -> str:
    # What is no UTF-8 comes back as it was.
    return some.decode("utf-8", "surrogateescape")


def _ascii(name: str, text: str) -> None:
    if any(ord(character) > 127 for character in text):
        raise _out_of_range(name, text)


def _utf8(text: str) -> bytes:
    return text.encode("utf-8", "surrogateescape")


def _half(raw: int) -> float:
    # By arithmetic, since some interpreters have no numbers below the least normal one.
    exponent, fraction = raw >> 10 & 31, raw & 0x3FF
    if exponent == 31:
        size = float("nan") if fraction else float("inf")
    else:
        size = fraction * 2.0**-24 if exponent == 0 else (1024 + fraction) * 2.0 ** (exponent - 25)
    return -size if raw >> 15 else size


def _half_raw(value: float) -> int:
    exponent = max(math.frexp(value)[1], -13) if value else -13
    # Of two codes that are as near the even one.
    code = (exponent + 14 << 10) + round(abs(value) / 2.0 ** (exponent - 11)) - 1024
    if code >= 0x7C00:
        raise OverflowError
    return code | (0x8000 if math.copysign(1.0, value) < 0 else 0)


def _float(raw: int, width: int) -> float:
    if width == 16:
        return _half(raw)
    code = {32: "<f", 64: "<d"}[width]
    return float(struct.unpack(code, raw.to_bytes(width // 8, "little"))[0])


def _float_raw(value: float, width: int, what: str) -> int:
    if not math.isfinite(value):
        raise _out_of_range(what, value)
    code = {32: "<f", 64: "<d"}.get(width, "")
    try:
        if width == 16:
            return _half_raw(value)
        return int.from_bytes(struct.pack(code, value), "little")
    except OverflowError:
        raise _out_of_range(what, value) from None


class BadLength(LinkError):
    """The length of a frame is wrong."""


class BadChecksum(LinkError):
    """A checksum of a frame differs."""


class BadValue(LinkError):
    """A part of a frame with a fixed value has another, or a byte stands where no sender writes it."""


def _bits(some: Union[bytes, bytearray], at: int, width: int, order: Literal["little", "big"]) -> int:
    first, last = at // 8, (at + width + 7) // 8
    shift = at % 8 if order == "little" else last * 8 - at - width
    return int.from_bytes(some[first:last], order) >> shift & (1 << width) - 1


def _set_bits(out: bytearray, at: int, width: int, order: Literal["little", "big"], value: int) -> None:
    first, last = at // 8, (at + width + 7) // 8
    shift = at % 8 if order == "little" else last * 8 - at - width
    mask = (1 << width) - 1 << shift
    some = int.from_bytes(out[first:last], order) & ~mask | value << shift & mask
    out[first:last] = some.to_bytes(last - first, order)


def _digits(some: Union[bytes, bytearray]) -> int:
    if not all(byte in b"0123456789abcdefABCDEF" for byte in some):
        raise BadValue(f"{some!r} are no hex digits")
    return int(some, 16)


def _maybe_digits(some: Union[bytes, bytearray]) -> int:
    return int(some, 16) if all(byte in b"0123456789abcdefABCDEF" for byte in some) else -1


def _cobs(plain: bytes) -> bytes:
    """Consistent overhead byte stuffing, with the zero at the end."""
    out = bytearray(b"\1")
    code = 0
    for n, byte in enumerate(plain):
        if byte == 0:
            code = len(out)
            out.append(1)
            continue
        out.append(byte)
        out[code] += 1
        if out[code] == 0xFF and n + 1 < len(plain):
            code = len(out)
            out.append(1)
    out.append(0)
    return bytes(out)


def _without_cobs(some: bytes) -> bytes:
    out = bytearray()
    if not some or some[-1] != 0:
        raise BadValue("a frame ends with a zero")
    some = some[:-1]
    at = 0
    while at < len(some):
        code = some[at]
        if code == 0 or at + code > len(some) or 0 in some[at + 1 : at + code]:
            raise BadValue(f"the code byte {code:#04x} at {at} is wrong")
        out += some[at + 1 : at + code]
        at += code
        if code < 0xFF and at < len(some):
            out.append(0)
    return bytes(out)


def _escaped(plain: bytes, codes: Dict[int, bytes]) -> bytes:
    return b"".join(codes.get(byte) or bytes((byte,)) for byte in plain)


def _unescaped(some: bytes, escape: int, codes: Dict[int, bytes], plain: Dict[int, int]) -> bytes:
    out = bytearray()
    at = 0
    while at < len(some):
        byte = some[at]
        at += 1
        if byte == escape:
            code = some[at] if at < len(some) else -1
            if code not in plain:
                raise BadValue(f"nothing has the code {code:#04x} behind the escape byte")
            byte = plain[code]
            at += 1
        elif byte in codes:
            raise BadValue(f"the byte {byte:#04x} stands where it has to be escaped")
        out.append(byte)
    return bytes(out)
