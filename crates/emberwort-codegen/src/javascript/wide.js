// A number of more than 53 bits from its lower bits and those from `shift` on.
function wide(low, high, shift) {
  return (BigInt(high) << BigInt(shift)) + BigInt(low);
}

function wideAt(b, at, width, little) {
  return little
    ? wide(bitsAt(b, at, 32, true), bitsAt(b, at + 32, width - 32, true), 32)
    : wide(bitsAt(b, at + width - 32, 32, false), bitsAt(b, at, width - 32, false), 32);
}

function getWide(r, width, little) {
  need(r, width);
  r.bit += width;
  return wideAt(r.body, r.bit - width, width, little);
}

function lowOf(number) {
  return Number(BigInt.asUintN(32, number));
}

function highOf(number) {
  return Number(BigInt.asUintN(32, number >> BigInt(32)));
}

function putWide(w, number, width, little) {
  w.bit += width;
  reach(w);
  setBits(w.out, w.bit - width, lowOf(number), highOf(number), width, little);
}

function wideVarint(r, width) {
  var value = BigInt(0), shift, byte, group;
  for (shift = 0; shift < width; shift += 7) {
    byte = get(r, 8, true);
    group = byte & 0x7f;
    if (width - shift < 7 && group >> (width - shift) !== 0) {
      break;
    }
    value += BigInt(group) << BigInt(shift);
    if (byte < 0x80) {
      return value;
    }
  }
  throw new LinkError("bad_number", "a compact number has more than " + width + " bits");
}

function putWideVarint(w, number) {
  while (number > BigInt(127)) {
    put(w, Number(BigInt.asUintN(7, number)) + 128, 8, true);
    number >>= BigInt(7);
  }
  put(w, Number(number), 8, true);
}

function wideZigzag(raw) {
  return (raw >> BigInt(1)) ^ -(raw & BigInt(1));
}

function wideUnzigzag(value) {
  return value >= BigInt(0) ? value * BigInt(2) : -value * BigInt(2) - BigInt(1);
}

function wideDigits(b, from, to) {
  var value = BigInt(0), at, digit;
  for (at = from; at < to; at++) {
    digit = digits(b, at, at + 1);
    if (digit < 0) {
      return BigInt(-1);
    }
    value = value * BigInt(16) + BigInt(digit);
  }
  return value;
}

function setWideDigits(out, at, number, many) {
  var n;
  for (n = many - 1; n >= 0; n--) {
    setDigits(out, at + n, Number(number & BigInt(15)), 1);
    number >>= BigInt(4);
  }
}
