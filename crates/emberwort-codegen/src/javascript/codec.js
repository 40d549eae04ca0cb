function hexOf(b) {
  var out = [], n;
  for (n = 0; n < b.length; n++) {
    out.push((b[n] < 16 ? "0" : "") + b[n].toString(16).toUpperCase());
  }
  return out.join(" ");
}

function fromHex(value, path) {
  var plain, out = [], n;
  if (typeof value !== "string") {
    throw new LinkError("out_of_range", path + ": hex digits are expected, as \"C6 39\"");
  }
  plain = value.replace(/\s/g, "");
  if (plain.length % 2 !== 0 || !/^[0-9a-fA-F]*$/.test(plain)) {
    throw new LinkError("out_of_range", path + ": hex digits are expected, as \"C6 39\"");
  }
  for (n = 0; n < plain.length; n += 2) {
    out.push(parseInt(plain.substring(n, n + 2), 16));
  }
  return out;
}

// The fields of a message or a record as data: physical values and labels.
function toData(fields, m, path, notes) {
  var data = {}, n, field, value;
  for (n = 0; n < fields.length; n++) {
    field = fields[n];
    value = m[field.member];
    if (value !== null && (field.section || 0) < (m.sectionsHeld || 1000)) {
      data[field.name] = valueToData(field, value, path + field.name, notes);
    }
  }
  return data;
}

function withoutMeaning(raw, path, notes) {
  notes.push(path + ": nothing has the code " + raw);
  return { raw: typeof raw === "number" ? raw : String(raw) };
}

function valueToData(field, value, path, notes) {
  var n, out;
  if (field.none !== undefined && value === field.none) {
    return null;
  }
  switch (field.kind) {
    case "number":
      if (!(value >= field.low && value <= field.high)) {
        return withoutMeaning(value, path, notes);
      }
      if (field.step === undefined) {
        return typeof value === "number" ? value : String(value);
      }
      return (Number(value) * field.step + field.offset) / field.divisor;
    case "label":
      for (n = 0; n < field.labels.length; n++) {
        if (field.labels[n][1] === value) {
          return field.labels[n][0];
        }
      }
      return withoutMeaning(value, path, notes);
    case "flags":
      return flagsToData(field, value, path, notes);
    case "time":
      if (!(value <= field.high)) {
        return withoutMeaning(value, path, notes);
      }
      out = new Date(Number(value) * (field.milliseconds ? 1 : 1000)).toISOString();
      return field.milliseconds ? out : out.replace(".000Z", "Z");
    case "float":
      return isFinite(value) ? shortest(value, field.bits) : withoutMeaning(String(value), path, notes);
    case "text":
      if (/[\udc80-\udcff]/.test(value.replace(/[\ud800-\udbff][\udc00-\udfff]/g, "")) || (field.ascii && /[^\x00-\x7f]/.test(value))) {
        notes.push(path + ": this is no text");
        return { raw: hexOf(utf8(value, path)) };
      }
      return value;
    case "bytes":
      return hexOf(value);
    case "list":
      out = [];
      for (n = 0; n < value.length; n++) {
        out.push(valueToData(field.element, value[n], path + "[" + n + "]", notes));
      }
      return out;
    case "record":
      return toData(field.fields, value, path + ".", notes);
    case "form":
      out = {};
      for (n = 0; n < field.forms.length; n++) {
        if (field.forms[n].name === value.name) {
          out[value.name] = valueToData(field.forms[n], value.value, path + "." + value.name, notes);
        }
      }
      return out;
    default:
      return value;
  }
}

// Of the numbers that become the same one of 16 or 32 bits that with the fewest digits.
function shortest(value, bits) {
  var beyond = bits === 16 ? 65520 : 3.4028235677973366e38, many, near;
  for (many = value % 1 === 0 && Math.abs(value) < 1e17 ? 10 : 1; bits < 64 && many < 10; many++) {
    near = Number(value.toPrecision(many));
    if (Math.abs(near) < beyond && floatOf(floatRaw(near, bits, "")[0], 0, bits) === value) {
      return near;
    }
  }
  return value;
}

function flagsToData(field, value, path, notes) {
  var out = [], bit, n, label, isSet;
  for (bit = 0; bit < field.bits; bit++) {
    isSet = typeof value === "number" ? Math.floor(value / Math.pow(2, bit)) % 2 === 1 : partOf(lowOf(value), highOf(value), bit, 1) === 1;
    if (isSet) {
      label = bit;
      for (n = 0; n < field.labels.length; n++) {
        if (field.labels[n][1] === bit) {
          label = field.labels[n][0];
        }
      }
      if (label === bit) {
        notes.push(path + ": nothing has the bit " + bit);
      }
      out.push(label);
    }
  }
  return out;
}

function mistake(path, expected, value) {
  var shown;
  try {
    shown = JSON.stringify(value);
  } catch (problem) {
    shown = String(value);
  }
  return new LinkError("out_of_range", path + ": " + expected + " is expected, not " + shown);
}

// Sets the members of a message or a record from data.
function fromData(fields, m, data, path, notes) {
  var n, field, value, name, known = {};
  if (typeof data !== "object" || data === null || data instanceof Array) {
    throw mistake(path === "" ? "fields" : path.replace(/\.$/, ""), "an object with the fields", data);
  }
  for (n = 0; n < fields.length; n++) {
    field = fields[n];
    known[" " + field.name] = true;
    value = data[field.name];
    if (value === undefined || (value === null && field.optional && field.none === undefined)) {
      if (field.optional) {
        m[field.member] = null;
        continue;
      }
      throw new LinkError("out_of_range", path + field.name + " is missing");
    }
    m[field.member] = valueFromData(field, value, path + field.name, notes);
  }
  for (name in data) {
    if (Object.prototype.hasOwnProperty.call(data, name) && !known[" " + name]) {
      throw new LinkError("out_of_range", path + name + ": there is no such field");
    }
  }
  return m;
}

// A whole number as members have it: those of more than 53 bits may be written as text.
function wholeFromData(field, value, path) {
  if (field.wide && typeof value === "string" && /^-?[0-9]+$/.test(value)) {
    return BigInt(value);
  }
  if (typeof value !== "number" || value % 1 !== 0) {
    throw mistake(path, "a whole number", value);
  }
  return field.wide ? BigInt(value) : value;
}

function valueFromData(field, value, path, notes) {
  var n, out, name, raw;
  if (value === null && field.none !== undefined) {
    return field.none;
  }
  if (typeof value === "object" && value !== null && value.raw !== undefined && field.kind !== "record" && field.kind !== "list" &&
      field.kind !== "form") {
    return field.kind === "text" ? text(fromHex(value.raw, path)) : wholeFromData(field, value.raw, path);
  }
  switch (field.kind) {
    case "number":
      if (field.step === undefined) {
        raw = wholeFromData(field, value, path);
      } else {
        if (typeof value !== "number" || !isFinite(value)) {
          throw mistake(path, "a number", value);
        }
        raw = nearest((value * field.divisor - field.offset) / field.step);
        if (raw >= field.low && raw <= field.high && Math.abs((raw * field.step + field.offset) / field.divisor - value) > 1e-9 * Math.abs(value)) {
          notes.push(path + ": " + value + " became " + (raw * field.step + field.offset) / field.divisor);
        }
        raw = field.wide ? BigInt(raw) : raw;
      }
      if (!(raw >= field.low && raw <= field.high)) {
        throw new LinkError("out_of_range", path + ": " + value + " does not fit; " + field.holds);
      }
      return raw;
    case "boolean":
      if (typeof value !== "boolean") {
        throw mistake(path, "true or false", value);
      }
      return value;
    case "label":
      for (n = 0; n < field.labels.length; n++) {
        if (field.labels[n][0] === value) {
          return field.labels[n][1];
        }
      }
      throw mistake(path, "one of its labels", value);
    case "flags":
      return flagsFromData(field, value, path);
    case "time":
      raw = typeof value === "string" ? Date.parse(value) : NaN;
      raw = field.milliseconds ? raw : raw / 1000;
      if (!(raw >= 0 && raw <= field.high && raw % 1 === 0)) {
        throw mistake(path, "a moment, as \"2031-03-09T02:11:19Z\",", value);
      }
      return field.wide ? BigInt(raw) : raw;
    case "float":
      if (typeof value !== "number") {
        throw mistake(path, "a number", value);
      }
      return value;
    case "text":
      if (typeof value !== "string") {
        throw mistake(path, "a text", value);
      }
      if (field.ascii && /[^\x00-\x7f]/.test(value)) {
        throw mistake(path, "a text of ASCII", value);
      }
      return value;
    case "bytes":
      return fromHex(value, path);
    case "list":
      if (!(value instanceof Array) && !(typeof value === "object" && typeof value.length === "number")) {
        throw mistake(path, "an array", value);
      }
      out = [];
      for (n = 0; n < value.length; n++) {
        out.push(valueFromData(field.element, value[n], path + "[" + n + "]", notes));
      }
      return out;
    case "record":
      return fromData(field.fields, field.make(), value, path + ".", notes);
    case "form":
      for (name in value) {
        for (n = 0; n < field.forms.length; n++) {
          if (field.forms[n].name === name && Object.keys(value).length === 1) {
            return { name: name, value: valueFromData(field.forms[n], value[name], path + "." + name, notes) };
          }
        }
      }
      throw mistake(path, "an object with one of its forms", value);
    default:
      throw mistake(path, "another value", value);
  }
}

function flagsFromData(field, value, path) {
  var total = field.wide ? BigInt(0) : 0, n, at, bit, seen = {};
  if (!(value instanceof Array) && !(typeof value === "object" && value !== null && typeof value.length === "number")) {
    throw mistake(path, "an array of its labels", value);
  }
  for (at = 0; at < value.length; at++) {
    bit = -1;
    for (n = 0; n < field.labels.length; n++) {
      if (field.labels[n][0] === value[at]) {
        bit = field.labels[n][1];
      }
    }
    if (bit < 0 || seen[bit]) {
      throw mistake(path, "an array of its labels, each once,", value);
    }
    seen[bit] = true;
    total += field.wide ? BigInt(1) << BigInt(bit) : Math.pow(2, bit);
  }
  return total;
}

function decodePayload(input, ports, open) {
  var warnings = [], b, frame, found, r, m, data;
  try {
    b = checkedBytes(Array.prototype.slice.call(input.bytes), "bytes");
    found = ports[input.fPort];
    if (found === undefined) {
      throw new LinkError("unknown_message", "no message has the port " + input.fPort);
    }
    frame = open(b);
    r = reader(frame.body, undefined);
    m = found.read(r);
    data = { message: found.name };
    PARTS.forEach(function (part) {
      if (frame[part[1]] !== undefined) {
        data[part[0]] = frame[part[1]];
      }
    });
    data.fields = toData(found.fields, m, "", warnings);
    if (m.sectionsHeld < found.revisions.length) {
      data.revision = found.revisions[m.sectionsHeld - 1];
      warnings.push("the sender has revision " + data.revision + " of this message, and lacks later fields");
    }
    if (r.bit / 8 < r.end) {
      data.later_bytes = hexOf(frame.body.slice(r.bit / 8));
      warnings.push("the sender has a later revision: what it added, " + data.later_bytes + ", is left out");
    }
    return { data: data, warnings: warnings, errors: [] };
  } catch (problem) {
    return failed(problem);
  }
}

function failed(problem) {
  return { errors: [problem instanceof LinkError ? problem.message : String(problem)], warnings: [] };
}

function encodePayload(input, ports, build) {
  var warnings = [], data, port, found, candidate, frame, w, known = "", count = 0;
  try {
    data = input.data;
    if (typeof data !== "object" || data === null) {
      throw mistake("data", "an object with `message` and `fields`", data);
    }
    for (candidate in ports) {
      if (ports[candidate].name === data.message && (data.port === undefined || Number(candidate) === data.port)) {
        found = ports[candidate];
        port = Number(candidate);
        count += 1;
      }
      known += (known === "" ? "" : ", ") + ports[candidate].name;
    }
    if (found === undefined) {
      throw new LinkError("unknown_message", "no message " + JSON.stringify(data.message) + " can be sent; there are " + (known || "none"));
    }
    if (count > 1) {
      throw new LinkError("unknown_message", "several ports carry " + found.name + "; `port` has to say which");
    }
    w = writer();
    found.write(w, fromData(found.fields, found.make(), data.fields === undefined ? {} : data.fields, "", warnings));
    frame = { body: w.out };
    PARTS.forEach(function (part) {
      frame[part[1]] = data[part[0]] === undefined ? part[2] : data[part[0]];
    });
    return { bytes: build(frame), fPort: port, warnings: warnings, errors: [] };
  } catch (problem) {
    return failed(problem);
  }
}
