// SPDX-License-Identifier: MIT
// What the page knows of signals, apart from any document: reading the data, what lies in a column of
// pixels, the next edge, texts, and a view as a link. Times are picoseconds.
'use strict';

const Waves = (() => {
  const KNOWN = 0, FLOATING = 2, UNKNOWN = 3;  // codes; a level's 1 is high
  const STEP = 16;                             // changes that one entry of a level of detail stands for

  function bytesOf(base64) {
    const text = atob(base64);
    const bytes = new Uint8Array(text.length);
    for (let i = 0; i < text.length; ++i) bytes[i] = text.charCodeAt(i);
    return bytes;
  }

  // A change is the ticks since the last one and the code in one number of seven bits a byte; behind
  // it, of a known number, how much more it is than the last one; of a real, eight bytes.
  function decode(meta, bytes) {
    const count = meta.count;
    const times = new Float64Array(count), values = new Float64Array(count);
    const codes = new Uint8Array(count);
    const picoseconds = 1e12 / meta.hz;
    const view = new DataView(bytes.buffer, bytes.byteOffset, bytes.byteLength);
    let at = meta.offset, tick = meta.begin, value = 0;
    const number = () => {
      let out = 0, scale = 1, byte;
      do {
        byte = bytes[at++];
        out += (byte & 0x7f) * scale;
        scale *= 128;
      } while (byte & 0x80);
      return out;
    };
    for (let i = 0; i < count; ++i) {
      // The code is taken off first: the rest has up to 53 bits.
      let byte = bytes[at++];
      codes[i] = byte & 3;
      let ticks = (byte & 0x7f) >> 2;
      for (let scale = 32; byte & 0x80; scale *= 128) {
        byte = bytes[at++];
        ticks += (byte & 0x7f) * scale;
      }
      tick += ticks;
      times[i] = tick * picoseconds;
      if (meta.kind === 'level') {
        value = codes[i] === 1 ? 1 : 0;
        if (codes[i] === 1) codes[i] = KNOWN;
      } else if (codes[i] === KNOWN && meta.kind === 'real') {
        value = view.getFloat64(at, true);
        at += 8;
      } else if (codes[i] === KNOWN) {
        const zigzag = number();
        value += zigzag % 2 === 0 ? zigzag / 2 : -(zigzag + 1) / 2;
      }
      values[i] = value;
    }
    const signal = {meta, times, values, codes, begin: meta.begin * picoseconds, end: meta.end * picoseconds};
    signal.detail = detail(signal);
    return signal;
  }

  // The least and most of each STEP changes, and of each STEP of those, up to a handful.
  function detail(signal) {
    const levels = [];
    let least = signal.values, most = signal.values, unknown = signal.codes;
    while (least.length > STEP) {
      const count = Math.ceil(least.length / STEP);
      const low = new Float64Array(count).fill(Infinity), high = new Float64Array(count).fill(-Infinity);
      const odd = new Uint8Array(count);
      for (let i = 0; i < least.length; ++i) {
        const k = Math.floor(i / STEP);
        if (levels.length === 0 && signal.codes[i] !== KNOWN) {
          odd[k] = 1;
          continue;
        }
        if (levels.length !== 0 && unknown[i]) odd[k] = 1;
        if (least[i] < low[k]) low[k] = least[i];
        if (most[i] > high[k]) high[k] = most[i];
      }
      levels.push({least: low, most: high, unknown: odd});
      least = low;
      most = high;
      unknown = odd;
    }
    return levels;
  }

  // The last change at or before a time; -1: there is none.
  function indexAt(signal, time) {
    let low = 0, high = signal.times.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (signal.times[middle] <= time) low = middle + 1;
      else high = middle;
    }
    return low - 1;
  }

  // The least and most of the changes [from, to).
  function range(signal, from, to, out) {
    for (let i = from; i < to;) {
      let level = -1, size = 1;
      while (level + 1 < signal.detail.length && i % (size * STEP) === 0 && i + size * STEP <= to) {
        ++level;
        size *= STEP;
      }
      if (level < 0) {
        if (signal.codes[i] === KNOWN) {
          if (signal.values[i] < out.least) out.least = signal.values[i];
          if (signal.values[i] > out.most) out.most = signal.values[i];
        } else {
          out.unknown = true;
        }
        ++i;
        continue;
      }
      const whole = signal.detail[level], k = i / size;
      if (whole.least[k] < out.least) out.least = whole.least[k];
      if (whole.most[k] > out.most) out.most = whole.most[k];
      if (whole.unknown[k]) out.unknown = true;
      i += size;
    }
    return out;
  }

  // What lies in each of `count` columns from a time to another: `first` and `last` are the changes
  // that hold at its beginning and just before its end (-1: nothing does); if asked for, `least` and
  // `most` are of all that is known in it. A change at the very beginning of a column lies in it.
  function columns(signal, from, to, count, extremes = true) {
    const out = {first: new Int32Array(count), last: new Int32Array(count), changes: new Int32Array(count),
                 known: new Uint8Array(count), unknown: new Uint8Array(count),
                 least: new Float64Array(extremes ? count : 0), most: new Float64Array(extremes ? count : 0)};
    const moments = signal.meta.kind === 'moment';
    const times = signal.times, codes = signal.codes, length = times.length;
    const found = {least: 0, most: 0, unknown: false};
    let at = indexAt(signal, from);
    for (let i = 0; i < count; ++i) {
      const begin = from + (to - from) * i / count, end = from + (to - from) * (i + 1) / count;
      const first = at;
      // Most columns hold few changes; else it is looked for.
      for (let tries = 0; tries < 8 && at + 1 < length && times[at + 1] < end; ++tries) ++at;
      if (at + 1 < length && times[at + 1] < end) {
        at = indexAt(signal, end);
        while (at >= 0 && times[at] >= end) --at;
      }
      out.first[i] = first;
      out.last[i] = at;
      out.changes[i] = at - first;
      const inside = end > signal.begin && begin <= signal.end;
      found.least = Infinity;
      found.most = -Infinity;
      found.unknown = !inside || begin < signal.begin || end > signal.end + (to - from) / count;
      const held = inside && !moments;
      if (held && first < 0) found.unknown = true;
      if (extremes) {
        range(signal, held && first >= 0 ? first : first + 1, at + 1, found);
        out.least[i] = found.least;
        out.most[i] = found.most;
        out.known[i] = found.least <= found.most ? 1 : 0;
      } else {
        const one = inside && at >= 0 && codes[at] === KNOWN;
        const other = held && first >= 0 && codes[first] === KNOWN;
        out.known[i] = one && (held || at > first) || other ? 1 : 0;
        if (held && (!one || !other)) found.unknown = true;
      }
      out.unknown[i] = found.unknown ? 1 : 0;
    }
    return out;
  }

  // The change nearest to a time, if it is within a tolerance; else null.
  function nearest(signal, time, tolerance) {
    const at = indexAt(signal, time);
    let best = null;
    for (const i of [at, at + 1])
      if (i >= 0 && i < signal.times.length) {
        const away = Math.abs(signal.times[i] - time);
        if (away <= tolerance && (best === null || away < Math.abs(best - time))) best = signal.times[i];
      }
    return best;
  }

  // What made the change at a time, if that has been recorded and is known; else null.
  function placeOf(signal, time) {
    const at = signal.places ? indexAt(signal.places, time) : -1;
    return at < 0 || signal.places.codes[at] !== KNOWN ? null : 'by ' + textOf(signal.places, at);
  }

  // The next change behind a time, or the one before it; if a text is wanted, one to such a value.
  function seek(signal, time, forward, text) {
    let at = indexAt(signal, time);
    if (!forward && at >= 0 && signal.times[at] >= time) --at;
    if (forward) ++at;
    for (; at >= 0 && at < signal.times.length; at += forward ? 1 : -1) {
      const time = signal.times[at];
      if (!text || textOf(signal, at).toLowerCase().includes(text.toLowerCase())) return time;
    }
    return null;
  }

  function textOf(signal, index) {
    const meta = signal.meta;
    if (index < 0) return '';
    const code = signal.codes[index], value = signal.values[index];
    if (code === FLOATING) return 'floating';
    if (code !== KNOWN) return 'unknown';
    const name = meta.names && meta.names[value];
    if (name !== undefined) return name;
    if (meta.kind === 'level') return value ? 'high' : 'low';
    const unit = meta.unit ? ' ' + meta.unit : '';
    if (meta.kind === 'real' || meta.scale !== 1) return Number((value * meta.scale).toPrecision(6)) + unit;
    const digits = (radix, width) => value.toString(radix).padStart(width, '0');
    if (meta.format === 'hex') return '0x' + digits(16, Math.ceil(meta.bits / 4));
    if (meta.format === 'binary') return '0b' + digits(2, meta.bits);
    if (meta.format === 'character')
      return value >= 0x20 && value < 0x7f ? `'${String.fromCharCode(value)}'` : '0x' + digits(16, 2);
    return value + unit;
  }

  const UNITS = [[1e12, 's'], [1e9, 'ms'], [1e6, 'us'], [1e3, 'ns'], [1, 'ps']];

  // Digits as far as they say something: `1.0412 ms`.
  function timeText(picoseconds, digits = 6) {
    const size = Math.abs(picoseconds);
    const [scale, unit] = UNITS.find(([scale]) => size >= scale) || UNITS[size === 0 ? 0 : 4];
    return Number((picoseconds / scale).toPrecision(digits)) + ' ' + unit;
  }

  // Round moments within a stretch of time, written alike.
  function ticks(from, to, most) {
    let step = 1;
    for (let ten = 1; (to - from) / step > most && ten < 1e18; ten *= 10)
      for (const times of [1, 2, 5])
        if ((to - from) / step > most) step = ten * times;
    const [scale, unit] = UNITS.find(([scale]) => to >= scale) || UNITS[4];
    let digits = 0;
    while (digits < 12 && (step / scale) * 10 ** digits < 0.999) ++digits;
    const out = [];
    for (let i = Math.ceil(from / step); i * step <= to; ++i)
      out.push({at: i * step, text: (i * step / scale).toFixed(digits) + ' ' + unit});
    return out;
  }

  function roundNumbers(least, most, count) {
    if (!(most > least)) {
      const half = least === 0 ? 1 : Math.abs(least) / 2;
      least -= half;
      most += half;
    }
    const rough = (most - least) / Math.max(1, count - 1);
    const ten = 10 ** Math.floor(Math.log10(rough));
    const step = [1, 2, 5, 10].map(x => x * ten).find(x => x >= rough);
    const out = [];
    for (let i = Math.floor(least / step + 1e-9); out.length < 100; ++i) {
      out.push(i * step);
      if (i * step >= most - step * 1e-9) break;
    }
    return out;
  }

  // What is between two moments: edges, bytes.
  function between(signal, a, b) {
    const from = Math.min(a, b), to = Math.max(a, b);
    let begin = indexAt(signal, from);
    if (begin < 0 || signal.times[begin] < from) ++begin;
    const end = indexAt(signal, to);
    let count = 0;
    for (let i = begin; i <= end; ++i)
      if (signal.codes[i] === KNOWN && textOf(signal, i) !== '-') ++count;
    return Math.max(0, count);
  }

  // Groups of lanes ---------------------------------------------------------------------------------
  // Lanes of one group stand together, below a row with its name; where it is folded, only that is seen.

  const groupOf = lane => lane.group || '';

  // What stands one below the other: `{lane, place}`, counted, or `{group, folded, count}`. Hidden lanes are not there.
  function rows(lanes, folded) {
    const out = [];
    let group = '', head = null, place = 0;
    for (const lane of lanes) {
      if (lane.hidden) continue;
      if (groupOf(lane) !== group) {
        group = groupOf(lane);
        head = group === '' ? null : {group, folded: folded.includes(group), count: 0};
        if (head) out.push(head);
      }
      if (head) ++head.count;
      if (!head || !head.folded) out.push({lane, place: place++});
    }
    return out;
  }

  // Those of a group behind its first.
  function together(lanes) {
    const out = [];
    for (const lane of lanes)
      if (!out.includes(lane)) out.push(...(groupOf(lane) === '' ? [lane] : lanes.filter(l => groupOf(l) === groupOf(lane))));
    return out;
  }

  // Into a group, behind those that are in it; into a new one or none, behind those that stay in its own.
  function join(lanes, lane, group) {
    if (groupOf(lane) === group) return lanes;
    const others = lanes.filter(l => l !== lane);
    const groups = others.map(groupOf);
    const last = groups.lastIndexOf(group !== '' && groups.includes(group) ? group : groupOf(lane) || null);
    const place = last >= 0 ? last + 1 : lanes.indexOf(lane);
    lane.group = group === '' ? undefined : group;
    others.splice(place, 0, lane);
    return others;
  }

  // A lane has been moved: between two of a group it is one of them, away from its own it is in none.
  function settle(lanes, lane) {
    const seen = lanes.filter(l => !l.hidden), at = seen.indexOf(lane);
    const before = at > 0 ? groupOf(seen[at - 1]) : '', behind = at + 1 < seen.length ? groupOf(seen[at + 1]) : '';
    const own = groupOf(lane);
    if (before !== '' && before === behind) lane.group = before;
    else if (own !== '' && own !== before && own !== behind && seen.some(l => l !== lane && groupOf(l) === own))
      lane.group = undefined;
  }

  // Each in the group of what it belongs to: pins, interrupts, a part, a function, another chip.
  function byOrigin(lanes, signals) {
    for (const lane of lanes) {
      const scope = signals[lane.index].meta.scope;
      lane.group = scope.length === 0 ? undefined : scope.slice(scope.length > 1 ? 1 : 0).join(' ');
    }
    return together(lanes);
  }

  // A view as the end of an address, and back. What cannot be read is left out.
  function toFragment(view) {
    const parts = [`from=${Math.round(view.from)}`, `to=${Math.round(view.to)}`];
    for (const cursor of ['a', 'b'])
      if (view[cursor] !== null && view[cursor] !== undefined) parts.push(`${cursor}=${Math.round(view[cursor])}`);
    if (view.lanes) parts.push('lanes=' + view.lanes.map(l => (l.hidden ? '-' : '') + l.index +
      (l.name ? ':' + encodeURIComponent(l.name) : '') +
      (l.group ? '@' + encodeURIComponent(l.group) : '')).join(','));
    if (view.folded && view.folded.length !== 0) parts.push('folded=' + view.folded.map(encodeURIComponent).join(','));
    return parts.join('&');
  }
  function fromFragment(text, count) {
    const out = {};
    const read = text => {
      try {
        return text === undefined ? undefined : decodeURIComponent(text);
      } catch (error) {
        return undefined;
      }
    };
    for (const part of text.replace(/^#/, '').split('&')) {
      const [key, value] = part.split('=');
      if (value === undefined) continue;
      if (key === 'lanes') {
        const lanes = [];
        for (const item of value.split(',')) {
          const found = /^(-?)(\d+)(?::([^@]*))?(?:@(.*))?$/.exec(item);
          if (!found || Number(found[2]) >= count || lanes.some(l => l.index === Number(found[2]))) continue;
          lanes.push({index: Number(found[2]), hidden: found[1] === '-', name: read(found[3]), group: read(found[4])});
        }
        out.lanes = lanes;
      } else if (key === 'folded') {
        out.folded = value.split(',').map(read).filter(name => name);
      } else if (['from', 'to', 'a', 'b'].includes(key) && /^-?\d+(\.\d+)?$/.test(value)) {
        out[key] = Number(value);
      }
    }
    if (out.from >= out.to) {
      delete out.from;
      delete out.to;
    }
    return out;
  }

  return {KNOWN, FLOATING, UNKNOWN, bytesOf, decode, indexAt, columns, range, nearest, placeOf, seek, textOf,
          timeText, ticks, roundNumbers, between, rows, together, join, settle, byOrigin, toFragment, fromFragment};
})();

if (typeof module !== 'undefined') module.exports = Waves;
