// SPDX-License-Identifier: MIT
// The page's logic without a browser: node waves_test.js WAVES_JS PAGE CSV
// PAGE was made from CSV by the program.
'use strict';
const assert = require('node:assert');
const fs = require('node:fs');
const Waves = require(require('node:path').resolve(process.argv[2]));

const tests = [];
const test = (name, act) => tests.push([name, act]);

// A signal as decode() gives it.
function made(changes, meta = {}) {
  const signal = {
    meta: {kind: 'number', lane: 'boxes', scale: 1, bits: 16, ...meta},
    times: Float64Array.from(changes.map(c => c[0])),
    values: Float64Array.from(changes.map(c => typeof c[1] === 'number' ? c[1] : 0)),
    codes: Uint8Array.from(changes.map(c => c[1] === 'z' ? 2 : c[1] === 'x' ? 3 : 0)),
    begin: changes[0][0], end: changes[changes.length - 1][0] + 10, detail: [],
  };
  return signal;
}
let seed = 12345;
const random = n => {
  seed ^= seed << 13;
  seed ^= seed >>> 17;
  seed ^= seed << 5;
  return (seed >>> 0) % n;
};

test('what a page holds is what the table says', () => {
  const page = fs.readFileSync(process.argv[3], 'utf8');
  const part = id => new RegExp(`id="${id}">([^<]*)</script>`).exec(page)[1];
  const meta = JSON.parse(part('meta'));
  const bytes = Waves.bytesOf(part('data'));
  const rows = fs.readFileSync(process.argv[4], 'utf8').trim().split('\n').map(line => line.split(','));
  const titles = rows.shift();
  assert.strictEqual(meta.signals.length, titles.length - 1);
  meta.signals.forEach((m, i) => {
    const signal = Waves.decode(m, bytes);
    for (const row of rows) {
      const index = Waves.indexAt(signal, Math.round(Number(row[0]) * 1e12));
      const cell = row[i + 1];
      const code = signal.codes[index];
      if (cell === '') assert.strictEqual(code, Waves.UNKNOWN);
      else if (cell === 'z') assert.strictEqual(code, Waves.FLOATING);
      else if (Number.isNaN(Number(cell))) assert.strictEqual(Waves.textOf(signal, index), cell);
      else assert.strictEqual(signal.values[index], Number(cell));
    }
  });
});

test('columns have the least and the most of what lies in them', () => {
  for (let round = 0; round < 60; ++round) {
    const changes = [];
    let time = 100;
    for (let i = 0; i < 1 + random(round < 30 ? 200 : 30000); ++i) {
      changes.push([time, random(50) === 0 ? 'x' : random(1000) - 500]);
      time += 1 + random(30);
    }
    const plain = made(changes);
    // By way of the page's own form, so that levels of detail are there.
    let bytes = [], tick = 0, before = 0;
    const put = n => { for (; n >= 128; n = Math.floor(n / 128)) bytes.push(n % 128 + 128); bytes.push(n); };
    for (const [at, value] of changes) {
      put((at - tick) * 4 + (value === 'x' ? 3 : 0));
      tick = at;
      if (value === 'x') continue;
      put(value - before < 0 ? -(value - before) * 2 - 1 : (value - before) * 2);
      before = value;
    }
    const signal = Waves.decode({kind: 'number', lane: 'boxes', scale: 1, bits: 16, hz: 1e12, begin: 0, offset: 0,
                                 end: time, count: changes.length}, Uint8Array.from(bytes));
    assert.deepStrictEqual([...signal.times], [...plain.times]);
    const from = random(time), to = from + 1 + random(time), count = 1 + random(300);
    const all = Waves.columns(signal, from, to, count), few = Waves.columns(signal, from, to, count, false);
    for (let i = 0; i < count; ++i) {
      const begin = from + (to - from) * i / count, end = from + (to - from) * (i + 1) / count;
      let held = Waves.indexAt(plain, begin);
      if (i > 0 && held >= 0 && plain.times[held] === begin) --held;
      let least = Infinity, most = -Infinity, inside = 0;
      const take = k => {
        if (plain.codes[k] !== Waves.KNOWN) return;
        least = Math.min(least, plain.values[k]);
        most = Math.max(most, plain.values[k]);
      };
      if (held >= 0 && begin <= time) take(held);
      for (let k = held + 1; k < plain.times.length && plain.times[k] < end; ++k, ++inside) take(k);
      assert.strictEqual(all.changes[i], inside);
      assert.deepStrictEqual([all.least[i], all.most[i]], [least, most]);
      for (const key of ['first', 'last', 'changes']) assert.strictEqual(few[key][i], all[key][i]);
      if (inside < 2 && begin <= time) assert.strictEqual(few.known[i], all.known[i]);
    }
  }
});

test('cursors find changes, searches find values', () => {
  const s = made([[0, 1], [100, 2], [250, 3], [400, 2]], {names: {3: 'RAMP'}});
  assert.strictEqual(Waves.nearest(s, 110, 20), 100);
  assert.strictEqual(Waves.nearest(s, 130, 20), null);
  assert.strictEqual(Waves.placeOf(s, 100), null);
  s.places = made([[100, 42], [250, 'x']], {names: {42: 'tick, kiln.c:7'}});
  assert.strictEqual(Waves.placeOf(s, 50), null);
  assert.strictEqual(Waves.placeOf(s, 100), 'by tick, kiln.c:7');
  assert.strictEqual(Waves.placeOf(s, 250), null);
  assert.strictEqual(Waves.nearest(s, 240, 1000), 250);
  assert.strictEqual(Waves.seek(s, 0, true), 100);
  assert.strictEqual(Waves.seek(s, 100, true), 250);
  assert.strictEqual(Waves.seek(s, 100, false), 0);
  assert.strictEqual(Waves.seek(s, 0, false), null);
  assert.strictEqual(Waves.seek(s, 0, true, 'ramp'), 250);
  assert.strictEqual(Waves.seek(s, 400, true), null);
  assert.strictEqual(Waves.between(s, 300, 90), 2);
});

test('texts', () => {
  const said = (value, meta) => Waves.textOf(made([[0, value]], meta), 0);
  assert.strictEqual(said(31, {format: 'hex'}), '0x001f');
  assert.strictEqual(said(5, {format: 'binary', bits: 8}), '0b00000101');
  assert.strictEqual(said(65, {format: 'character'}), "'A'");
  assert.strictEqual(said(10, {format: 'character'}), '0x0a');
  assert.strictEqual(said(34996, {scale: 0.001, unit: '°C'}), '34.996 °C');
  assert.strictEqual(said('z'), 'floating');
  assert.strictEqual(said('x'), 'unknown');
  assert.strictEqual(said(1, {kind: 'level'}), 'high');
  assert.strictEqual(Waves.timeText(1041200000), '1.0412 ms');
  assert.strictEqual(Waves.timeText(0), '0 s');
  assert.deepStrictEqual(Waves.ticks(0, 1e12, 4).map(t => t.text), ['0.0 s', '0.5 s', '1.0 s']);
  assert.deepStrictEqual(Waves.ticks(999.5e9, 1002e9, 3).map(t => t.text), ['1.000 s', '1.001 s', '1.002 s']);
  assert.deepStrictEqual(Waves.roundNumbers(21, 71, 4), [20, 40, 60, 80]);
  assert.deepStrictEqual(Waves.roundNumbers(5, 5, 3), [0, 5, 10]);
});

test('a view goes into an address and comes back', () => {
  const view = {from: 1000, to: 2000, a: 1500, b: null,
                lanes: [{index: 2, hidden: false, name: 'heater & lamp, both', group: undefined}, {index: 0, hidden: true, name: undefined, group: 'x'}]};
  const back = Waves.fromFragment('#' + Waves.toFragment(view), 3);
  assert.deepStrictEqual(back, {from: 1000, to: 2000, a: 1500, lanes: view.lanes});
  // What somebody else may write.
  assert.deepStrictEqual(Waves.fromFragment('#from=9&to=3&a=x&lanes=7,-1,-1,foo,0:%E0%A4%A&b', 2),
                         {lanes: [{index: 1, hidden: true, name: undefined, group: undefined}, {index: 0, hidden: false, name: undefined, group: undefined}]});
  assert.deepStrictEqual(Waves.fromFragment('', 3), {});
});

test('lanes of a group stay together, wherever they are moved', () => {
  const groups = ['', 'pins', 'a, b@c:d&e=%', 'ramp'];
  const check = (lanes, folded) => {
    const heads = Waves.rows(lanes, folded).filter(row => row.group).map(row => row.group);
    assert.strictEqual(new Set(heads).size, heads.length);
    assert.deepStrictEqual([...lanes].sort((x, y) => x.index - y.index).map(l => l.index), [0, 1, 2, 3, 4, 5, 6, 7]);
  };
  for (let round = 0; round < 200; ++round) {
    let lanes = [...Array(8).keys()].map(index => ({index, hidden: false, name: undefined}));
    const folded = groups.slice(1).filter(() => random(3) === 0);
    for (let i = 0; i < 30; ++i) {
      const lane = lanes[random(8)];
      if (random(2) === 0) {
        const group = groups[random(4)];
        lanes = Waves.join(lanes, lane, group);
        assert.strictEqual(lane.group || '', group);
      } else {
        const others = lanes.filter(l => l !== lane);
        others.splice(random(8), 0, lane);
        lanes = others;
        Waves.settle(lanes, lane);
      }
      check(lanes, folded);
    }
    const rows = Waves.rows(lanes, folded), seen = rows.filter(row => row.lane);
    seen.forEach((row, place) => assert.strictEqual(row.place, place));
    for (const lane of lanes)
      assert.strictEqual(seen.some(row => row.lane === lane), !folded.includes(lane.group));
    for (const row of rows)
      if (row.group) assert.strictEqual(row.count, lanes.filter(l => l.group === row.group).length);
    const view = {from: 1, to: 2, a: null, b: null, lanes, folded};
    const back = Waves.fromFragment(Waves.toFragment(view), 8);
    assert.deepStrictEqual(back.lanes.map(l => [l.index, l.group]), lanes.map(l => [l.index, l.group]));
    assert.deepStrictEqual(back.folded || [], folded);
    lanes.sort(() => random(3) - 1);
    check(Waves.together(lanes), folded);
  }
  const signals = [['kiln', 'pins'], ['kiln'], ['kiln', 'pins'], [], ['kiln', 'main.c', 'f']].map(scope => ({meta: {scope}}));
  const all = Waves.byOrigin(signals.map((_, index) => ({index, hidden: false})), signals);
  assert.deepStrictEqual(all.map(l => [l.index, l.group]),
    [[0, 'pins'], [2, 'pins'], [1, 'kiln'], [3, undefined], [4, 'main.c f']]);
});

let failed = 0;
for (const [name, act] of tests) {
  try {
    act();
    console.log(`ok    ${name}`);
  } catch (error) {
    ++failed;
    console.log(`FAILS ${name}\n${error.stack}`);
  }
}
process.exit(failed === 0 ? 0 : 1);
