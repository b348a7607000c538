// SPDX-License-Identifier: MIT
// The page itself: lanes on a canvas, cursors, keys. What it knows of signals is in waves.js.
'use strict';

(() => {
  const element = id => document.getElementById(id);
  const meta = JSON.parse(element('meta').textContent);
  const bytes = Waves.bytesOf(element('data').textContent.trim());
  const signals = meta.signals.map(m => Waves.decode(m, bytes)).filter(s => s.meta.places_of === undefined);
  for (const m of meta.signals)
    if (m.places_of !== undefined) signals[m.places_of].places = Waves.decode(m, bytes);
  const canvas = element('waves'), axis = element('axis'), names = element('names');
  const HEIGHTS = {level: 42, boxes: 42, moments: 42, curve: 128}, HEAD = 24;

  // What is seen.
  const view = {from: meta.from, to: meta.to, a: null, b: null,
                lanes: signals.map((signal, index) => ({index, hidden: false, name: undefined})), folded: []};
  let chosen = 0, pointer = null, width = 0, waiting = false;

  function adopt(fragment) {
    const wanted = Waves.fromFragment(fragment, signals.length);
    if (wanted.from !== undefined && wanted.to !== undefined) Object.assign(view, {from: wanted.from, to: wanted.to});
    view.a = wanted.a === undefined ? null : wanted.a;
    view.b = wanted.b === undefined ? null : wanted.b;
    if (wanted.lanes) {
      const missing = view.lanes.filter(l => !wanted.lanes.some(w => w.index === l.index));
      view.lanes = Waves.together(wanted.lanes.concat(missing));
    }
    view.folded = wanted.folded || [];
  }

  const rows = () => Waves.rows(view.lanes, view.folded);
  const shown = () => rows().filter(row => row.lane).map(row => row.lane);
  const height = row => row.lane ? HEIGHTS[signals[row.lane.index].meta.lane] : HEAD;
  const nameOf = lane => lane.name || signals[lane.index].meta.name;
  const timeAt = x => view.from + (view.to - view.from) * x / width;
  const xOf = time => (time - view.from) / (view.to - view.from) * width;

  // Names -----------------------------------------------------------------------------------------

  function makeNames() {
    names.replaceChildren(...rows().map(row => {
      const item = document.createElement('li'), lane = row.lane;
      item.style.height = height(row) + 'px';
      if (!lane) {
        item.className = 'group';
        item.dataset.group = row.group;
        item.textContent = `${row.folded ? '▸' : '▾'} ${row.group}` + (row.folded ? ` (${row.count})` : '');
        item.title = 'A click folds it, or unfolds it (f)';
        return item;
      }
      item.draggable = true;
      item.dataset.place = row.place;
      item.classList.toggle('member', Boolean(lane.group));
      const name = document.createElement('b'), value = document.createElement('span');
      name.textContent = nameOf(lane);
      name.title = signals[lane.index].meta.scope.join(' · ') + ' · ' + signals[lane.index].meta.name;
      name.style.color = `var(--lane${lane.index % 6})`;
      item.append(name, value);
      return item;
    }));
    const hidden = view.lanes.filter(lane => lane.hidden).length;
    element('all').hidden = hidden === 0;
    element('all').textContent = `${hidden} hidden`;
    choose(Math.min(chosen, shown().length - 1));
  }
  function choose(place) {
    chosen = Math.max(0, place);
    for (const item of names.children) {
      const its = item.dataset.place === String(chosen);
      item.classList.toggle('chosen', its);
      if (its) item.scrollIntoView({block: 'nearest'});
    }
  }
  const chosenSignal = () => shown().length === 0 ? null : signals[shown()[chosen].index];
  function moveLane(from, to) {
    const visible = shown();
    if (to < 0 || to >= visible.length || from === to) return;
    const lane = visible[from], target = visible[to];
    view.lanes.splice(view.lanes.indexOf(lane), 1);
    view.lanes.splice(view.lanes.indexOf(target) + (to > from ? 1 : 0), 0, lane);
    Waves.settle(view.lanes, lane);
    follow(lane);
  }
  function follow(lane) {
    chosen = Math.max(0, shown().indexOf(lane));
    changed(true);
  }
  function regroup(lane, group) {
    view.lanes = Waves.join(view.lanes, lane, group);
    view.folded = view.folded.filter(name => name !== group);
    follow(lane);
  }
  function askGroup() {
    const lane = shown()[chosen];
    if (!lane) return;
    const above = chosen > 0 ? shown()[chosen - 1].group : undefined;
    const group = prompt('The group it is to stand in; nothing: none', lane.group || above || '');
    if (group !== null) regroup(lane, group.trim());
  }
  function fold(group) {
    if (!group) return;
    const lane = shown()[chosen];
    view.folded = view.folded.includes(group) ? view.folded.filter(name => name !== group) : view.folded.concat(group);
    follow(lane);
  }
  // A folded group has no lane that could be chosen: then those are unfolded.
  function foldChosen() {
    const lane = shown()[chosen];
    if (lane && lane.group) return fold(lane.group);
    view.folded = [];
    changed(true);
  }
  function groupAll() {
    const lane = shown()[chosen];
    if (view.lanes.some(l => l.group)) view.lanes.forEach(l => { l.group = undefined; });
    else view.lanes = Waves.byOrigin(view.lanes, signals);
    view.folded = [];
    follow(lane);
  }
  function rename() {
    const lane = shown()[chosen];
    if (!lane) return;
    const name = prompt('Its name', nameOf(lane));
    if (name === null) return;
    lane.name = name.trim() === '' || name === signals[lane.index].meta.name ? undefined : name.trim();
    changed(true);
  }
  function hide() {
    const lane = shown()[chosen];
    if (!lane || shown().length === 1) return;
    lane.hidden = true;
    changed(true);
  }

  // Drawing ---------------------------------------------------------------------------------------

  let colours = {};
  function readColours() {
    const style = getComputedStyle(document.documentElement);
    for (const name of ['ground', 'text', 'muted', 'grid', 'edge', 'unknown', 'chosen',
                        'lane0', 'lane1', 'lane2', 'lane3', 'lane4', 'lane5'])
      colours[name] = style.getPropertyValue('--' + name).trim();
  }
  function sized(target, wide, high) {
    const scale = window.devicePixelRatio || 1;
    target.width = Math.round(wide * scale);
    target.height = Math.round(high * scale);
    target.style.width = wide + 'px';
    target.style.height = high + 'px';
    const context = target.getContext('2d');
    context.setTransform(scale, 0, 0, scale, 0, 0);
    context.font = '11px "DejaVu Sans", system-ui, sans-serif';
    context.textBaseline = 'middle';
    return context;
  }

  function changed(lanes) {
    if (lanes) makeNames();
    if (!waiting) {
      waiting = true;
      requestAnimationFrame(draw);
    }
    clearTimeout(changed.later);
    changed.later = setTimeout(() => history.replaceState(null, '', '#' + Waves.toFragment({...view,
      lanes: view.lanes.every((l, i) => l.index === i && !l.hidden && !l.name && !l.group) ? null : view.lanes})), 200);
  }

  function draw() {
    waiting = false;
    const visible = rows();
    width = Math.max(50, element('plot').clientWidth - 16);
    const high = Math.max(visible.reduce((sum, row) => sum + height(row), 0), 40);
    const c = sized(canvas, width + 16, high);
    const marks = Waves.ticks(view.from, view.to, Math.max(2, width / 110));
    c.strokeStyle = colours.grid;
    c.lineWidth = 1;
    c.beginPath();
    for (const mark of marks) {
      const x = Math.floor(xOf(mark.at)) + 0.5;
      c.moveTo(x, 0);
      c.lineTo(x, high);
    }
    c.stroke();
    let top = 0;
    for (const row of visible) {
      if (row.lane) {
        drawLane(c, row.lane, top, height(row));
      } else {
        c.fillStyle = colours.chosen;
        c.fillRect(0, top, width, height(row));
      }
      top += height(row);
      c.strokeStyle = colours.grid;
      c.beginPath();
      c.moveTo(0, top - 0.5);
      c.lineTo(width, top - 0.5);
      c.stroke();
    }
    drawCursors(c, high);
    drawAxis(marks);
    showValues();
  }

  function drawLane(c, lane, top, high) {
    const signal = signals[lane.index];
    const box = {top, height: high, colour: colours['lane' + lane.index % 6]};
    c.save();
    c.beginPath();
    c.rect(0, top, width, box.height);
    c.clip();
    const extremes = signal.meta.lane === 'curve';
    LANES[signal.meta.lane](c, signal, box,
      Waves.columns(signal, view.from, view.to, Math.floor(width), extremes), Math.floor(width));
    c.restore();
  }

  function drawAxis(marks) {
    const c = sized(axis, width + 16, 46);
    c.strokeStyle = colours.edge;
    c.beginPath();
    c.moveTo(0, 0.5);
    c.lineTo(width, 0.5);
    for (const mark of marks) {
      const x = Math.floor(xOf(mark.at)) + 0.5;
      c.moveTo(x, 0);
      c.lineTo(x, 5);
    }
    c.stroke();
    c.fillStyle = colours.muted;
    for (const mark of marks) {
      const wide = c.measureText(mark.text).width;
      c.fillText(mark.text, Math.min(Math.max(xOf(mark.at) - wide / 2, 2), width + 14 - wide), 15);
    }
    if (view.a === null || view.b === null) return;
    const span = Math.abs(view.b - view.a);
    const text = Waves.timeText(span) + (span > 0 ? ` · ${Number((1e12 / span).toPrecision(5))} Hz` : '');
    c.fillStyle = colours.text;
    c.font = 'bold ' + c.font;
    const wide = c.measureText(text).width;
    c.fillText(text, Math.min(Math.max((xOf(view.a) + xOf(view.b) - wide) / 2, 2), width - wide), 34);
  }

  function drawCursors(c, high) {
    const both = view.a !== null && view.b !== null;
    c.fillStyle = colours.text;
    if (both) {
      c.globalAlpha = 0.06;
      c.fillRect(Math.min(xOf(view.a), xOf(view.b)), 0, Math.abs(xOf(view.b) - xOf(view.a)), high);
      c.globalAlpha = 1;
    }
    c.strokeStyle = colours.text;
    for (const cursor of ['a', 'b']) {
      if (view[cursor] === null) continue;
      const x = Math.floor(xOf(view[cursor])) + 0.5;
      c.beginPath();
      c.moveTo(x, 0);
      c.lineTo(x, high);
      c.stroke();
      c.fillText(cursor, x + 3, 8);
    }
    for (const line of meta.lines) {
      const x = Math.floor(xOf(line.at)) + 0.5;
      if (x < 0 || x > width) continue;
      c.save();
      c.setLineDash([3, 3]);
      c.strokeStyle = colours.muted;
      c.beginPath();
      c.moveTo(x, 0);
      c.lineTo(x, high);
      c.stroke();
      c.fillStyle = colours.muted;
      const wide = c.measureText(line.text).width;
      c.fillText(line.text, x + 4 + wide > width ? x - wide - 4 : x + 4, 8);
      c.restore();
    }
  }

  // Calls for each run of columns of which something holds.
  function runs(count, holds, act) {
    for (let x = 0; x < count;) {
      let end = x;
      while (end < count && holds(end)) ++end;
      if (end > x) act(x, end);
      x = end + 1;
    }
  }
  function unknown(c, signal, box, columns, count) {
    if (signal.meta.fleeting) return;  // it is missing nowhere
    c.fillStyle = colours.unknown;
    c.globalAlpha = 0.2;
    runs(count, x => !columns.known[x] && columns.unknown[x],
         (x, end) => c.fillRect(x, box.top + box.height * 0.26, end - x, box.height * 0.48));
    c.globalAlpha = 1;
  }

  const LANES = {
    level(c, signal, box, columns, count) {
      unknown(c, signal, box, columns, count);
      const high = Math.round(box.top + box.height * 0.24) + 0.5;
      const low = Math.round(box.top + box.height * 0.76) + 0.5;
      const {first, last, changes, known} = columns;
      const isHigh = index => signal.values[index] !== 0;
      c.fillStyle = box.colour;
      c.globalAlpha = 0.13;
      runs(count, x => known[x] && changes[x] < 2 && (isHigh(last[x]) || (first[x] >= 0 && isHigh(first[x]))),
           (x, end) => c.fillRect(x, high, end - x, low - high));
      c.globalAlpha = 0.6;  // more than one edge in a column
      runs(count, x => known[x] && changes[x] > 1, (x, end) => c.fillRect(x, high - 0.7, end - x, low - high + 1.4));
      c.globalAlpha = 1;
      c.strokeStyle = box.colour;
      c.lineWidth = 1.4;
      c.beginPath();
      runs(count, x => known[x], (from, end) => {
        let y = null;
        for (let x = from; x < end; ++x) {
          const before = first[x] >= 0 && signal.codes[first[x]] === Waves.KNOWN ? isHigh(first[x]) : isHigh(last[x]);
          const after = isHigh(last[x]);
          if (y === null) c.moveTo(x, before ? high : low);
          if (changes[x] > 1) {
            if (y !== null) c.lineTo(x, y);
            y = null;
            continue;
          }
          if (y !== null && y !== (before ? high : low)) {
            c.lineTo(x, y);
            c.lineTo(x, before ? high : low);
          }
          if (before !== after) {
            c.lineTo(x + 0.5, before ? high : low);
            c.lineTo(x + 0.5, after ? high : low);
          }
          y = after ? high : low;
        }
        if (y !== null) c.lineTo(end, y);
      });
      c.stroke();
    },

    boxes(c, signal, box, columns, count) {
      unknown(c, signal, box, columns, count);
      const top = box.top + box.height * 0.2, bottom = box.top + box.height * 0.8, middle = (top + bottom) / 2;
      const {first, last, changes, known} = columns;
      const said = index => {
        if (index < 0 || signal.codes[index] !== Waves.KNOWN) return '';
        const text = Waves.textOf(signal, index);
        return text === '-' ? '' : text;
      };
      c.fillStyle = box.colour;
      for (const [many, alpha] of [[true, 0.5], [false, 0.85]]) {
        c.globalAlpha = alpha;
        runs(count, x => changes[x] > 0 && (changes[x] > 4) === many &&
          (changes[x] > 1 || said(first[x]) !== '' || said(last[x]) !== ''),
          (x, end) => c.fillRect(x, top, end - x, bottom - top));
      }
      c.globalAlpha = 1;
      c.lineWidth = 1.2;
      for (let x = 0; x < count;) {
        let end = x + 1;
        if (changes[x] === 0) {
          while (end < count && changes[end] === 0 && known[end] === known[x]) ++end;
          const text = known[x] ? said(first[x]) : '';
          if (text !== '') drawBox(c, box, x, end, top, middle, bottom, text);
        }
        x = end;
      }
    },

    moments(c, signal, box, columns, count) {
      const top = box.top + box.height * 0.2, high = box.height * 0.6;
      const {last, changes} = columns;
      c.fillStyle = box.colour;
      runs(count, x => changes[x] > 0, (x, end) => c.fillRect(x, top, end - x + 0.4, high));
      c.fillStyle = colours.text;
      let free = 0;
      for (let x = 0; x < count; ++x) {
        if (changes[x] !== 1 || x < free) continue;
        const next = last[x] + 1 < signal.times.length ? xOf(signal.times[last[x] + 1]) : width;
        if (next - x < 12) continue;
        const text = Waves.textOf(signal, last[x]);
        const wide = c.measureText(text).width;
        if (x + 6 + wide > next) continue;
        c.fillText(text, x + 4, box.top + box.height / 2 + 0.5);
        free = x + 4 + wide;
      }
    },

    curve(c, signal, box, columns, count) {
      unknown(c, signal, box, columns, count);
      const scale = signal.meta.kind === 'real' ? 1 : signal.meta.scale;
      const {first, last, changes, known} = columns;
      let least = Infinity, most = -Infinity;
      for (let x = 0; x < count; ++x)
        if (known[x]) {
          least = Math.min(least, columns.least[x]);
          most = Math.max(most, columns.most[x]);
        }
      if (!(least <= most)) return;
      const marks = Waves.roundNumbers(least * scale, most * scale, 4);
      const from = marks[0], to = marks[marks.length - 1];
      const low = box.top + box.height - 14, high = box.top + 14;
      const y = value => low - (value * scale - from) / (to - from) * (low - high);
      c.lineWidth = 1;
      c.strokeStyle = colours.grid;
      c.beginPath();
      for (const mark of marks) {
        const at = Math.round(low - (mark - from) / (to - from) * (low - high)) + 0.5;
        c.moveTo(0, at);
        c.lineTo(width, at);
      }
      c.stroke();
      for (const mark of marks) {
        const at = low - (mark - from) / (to - from) * (low - high);
        const text = String(Number(mark.toPrecision(6)));
        c.fillStyle = colours.muted;
        c.fillText(text, 4, at - 7);
      }
      c.fillStyle = box.colour;
      for (let x = 0; x < count; ++x)
        if (known[x] && changes[x] > 1) {
          const top = y(columns.most[x]);
          c.fillRect(x, top - 0.6, 1, Math.max(1.2, y(columns.least[x]) - top + 1.2));
        }
      c.strokeStyle = box.colour;
      c.lineWidth = 1.6;
      c.lineJoin = 'round';
      const value = (index, x) => index >= 0 && signal.codes[index] === Waves.KNOWN ? signal.values[index] : columns.least[x];
      if (signal.meta.fleeting) islands(c, box, known, count, x => y(value(first[x], x)), x => y(value(last[x], x)));
      c.beginPath();
      runs(count, x => known[x], (begin, end) => {
        let open = false;
        for (let x = begin; x < end; ++x) {
          if (changes[x] > 1) {
            open = false;
            continue;
          }
          const before = y(value(first[x], x)), after = y(value(last[x], x));
          if (open) c.lineTo(x, before);
          else c.moveTo(x, before);
          open = true;
          if (before !== after) c.lineTo(x + 0.5, after);
          c.lineTo(x + 1, after);
        }
      });
      c.stroke();
    },
  };

  // A value that is there now and then: a dot where it is so for few pixels, and a thin line on to the next time, at
  // the last value that there was.
  function islands(c, box, known, count, firstOf, lastOf) {
    const few = 4;
    runs(count, x => known[x], (begin, end) => {
      let next = end;
      while (next < count && !known[next]) ++next;
      const last = lastOf(end - 1);
      c.globalAlpha = 0.35;
      c.fillRect(end, last - 0.5, next - end, 1);
      c.globalAlpha = 1;
      if (end - begin > few) return;
      for (const at of [firstOf(begin), last]) {
        c.beginPath();
        c.arc((begin + end) / 2, at, 2.2, 0, 2 * Math.PI);
        c.fill();
      }
    });
  }

  function drawBox(c, box, x, end, top, middle, bottom, text) {
    const slope = Math.min(3, (end - x) / 3);
    c.beginPath();
    c.moveTo(x, middle);
    c.lineTo(x + slope, top);
    c.lineTo(end - slope, top);
    c.lineTo(end, middle);
    c.lineTo(end - slope, bottom);
    c.lineTo(x + slope, bottom);
    c.closePath();
    c.fillStyle = box.colour;
    c.globalAlpha = 0.13;
    c.fill();
    c.globalAlpha = 1;
    c.strokeStyle = box.colour;
    c.stroke();
    if (end - x < 16) return;
    const wide = c.measureText(text).width;
    if (wide + 10 >= end - x) return;
    c.fillStyle = colours.text;
    c.fillText(text, (x + end - wide) / 2, middle + 0.5);
  }

  // What made the change that is nearest to the pointer, if that has been recorded.
  function placeAt(at) {
    const lane = shown()[laneAt(at.y)];
    if (!lane || !signals[lane.index].places) return null;
    const signal = signals[lane.index];
    const change = Waves.nearest(signal, timeAt(at.x), span() * 8 / width);
    return change === null ? null : Waves.placeOf(signal, change);
  }

  // Values under the pointer, or at the first cursor.
  function showValues() {
    const time = pointer !== null ? timeAt(pointer.x) : view.a;
    const lanes = shown();
    [...names.children].forEach(item => {
      if (item.dataset.place === undefined) return;
      const signal = signals[lanes[Number(item.dataset.place)].index];
      const index = time === null || time > signal.end ? -1 : Waves.indexAt(signal, time);
      item.lastChild.textContent = index < 0 ? signal.meta.unit || '' : Waves.textOf(signal, index);
    });
    const parts = [];
    if (pointer !== null) parts.push(Waves.timeText(time, 10));
    const signal = chosenSignal();
    const change = pointer !== null ? placeAt(pointer)
      : view.a !== null && signal ? Waves.placeOf(signal, view.a) : null;
    if (change !== null) parts.push(change);
    if (view.a !== null && view.b !== null && signal) {
      const count = Waves.between(signal, view.a, view.b);
      const what = signal.meta.kind === 'moment' || signal.meta.lane === 'boxes' ? 'value' : 'change';
      parts.push(`${Waves.timeText(Math.abs(view.b - view.a), 8)} between the cursors, ${count} ${what}${count === 1 ? '' : 's'} of ` +
        nameOf(shown()[chosen]));
    }
    element('status').textContent = parts.join(' · ') || 'The wheel zooms, dragging moves, a click sets a cursor. ? tells the keys.';
  }

  // Moving ----------------------------------------------------------------------------------------

  const span = () => view.to - view.from;
  function lookAt(from, to) {
    const all = meta.to - meta.from;
    const wide = Math.min(Math.max(to - from, 1000), all * 1.1);
    const middle = (from + to) / 2;
    view.from = Math.max(meta.from - all * 0.05, Math.min(middle - wide / 2, meta.to + all * 0.05 - wide));
    view.to = view.from + wide;
    changed(false);
  }
  const zoom = (factor, x = width / 2) => {
    const fixed = timeAt(x);
    lookAt(fixed - (fixed - view.from) * factor, fixed + (view.to - fixed) * factor);
  };
  const pan = share => lookAt(view.from + span() * share, view.to + span() * share);
  const fit = () => lookAt(meta.from, meta.to);
  function centre(time) {
    if (time < view.from || time > view.to) lookAt(time - span() / 2, time + span() / 2);
  }
  function seek(forward, text) {
    const signal = chosenSignal();
    if (!signal) return;
    const from = view.a !== null ? view.a : (view.from + view.to) / 2;
    const found = Waves.seek(signal, from, forward, text);
    if (found === null) {
      element('status').textContent = text ? `no such value ${forward ? 'behind' : 'before'} that` : 'no change there';
      return;
    }
    view.a = found;
    centre(found);
    changed(false);
  }
  /// The row at a height; null: there is none.
  function rowAt(y) {
    let top = 0;
    for (const row of rows()) {
      if (y >= top && y < top + height(row)) return row;
      top += height(row);
    }
    return null;
  }
  /// The place of the lane there; -1: there is none.
  function laneAt(y) {
    const row = rowAt(y);
    return row && row.lane ? row.place : -1;
  }
  function setCursor(which, x, y) {
    const place = laneAt(y);
    const time = timeAt(Math.min(Math.max(x, 0), width));
    const near = place < 0 ? null
      : Waves.nearest(signals[shown()[place].index], time, span() * 8 / width);
    view[which] = near === null ? time : near;
    changed(false);
  }

  let drag = null;
  canvas.addEventListener('pointerdown', event => {
    drag = {x: event.offsetX, from: view.from, to: view.to, moved: false};
    canvas.setPointerCapture(event.pointerId);
  });
  canvas.addEventListener('pointermove', event => {
    pointer = {x: event.offsetX, y: event.offsetY};
    if (drag && (drag.moved || Math.abs(event.offsetX - drag.x) > 4)) {
      drag.moved = true;
      const by = (drag.x - event.offsetX) / width * (drag.to - drag.from);
      lookAt(drag.from + by, drag.to + by);
    } else {
      showValues();
    }
  });
  canvas.addEventListener('pointerup', event => {
    if (drag && !drag.moved) {
      const row = rowAt(event.offsetY);
      if (row && row.lane) choose(row.place);
      if (row && row.group) fold(row.group);
      else setCursor(event.shiftKey ? 'b' : 'a', event.offsetX, event.offsetY);
    }
    drag = null;
  });
  canvas.addEventListener('pointerleave', () => {
    pointer = null;
    showValues();
  });
  canvas.addEventListener('wheel', event => {
    event.preventDefault();
    if (event.shiftKey || Math.abs(event.deltaX) > Math.abs(event.deltaY))
      pan((event.deltaX || event.deltaY) / width);
    else
      zoom(Math.exp(Math.max(-1, Math.min(1, event.deltaY / 300))), event.offsetX);
  }, {passive: false});

  names.addEventListener('click', event => {
    const item = event.target.closest('li');
    if (item && item.dataset.group) fold(item.dataset.group);
    else if (item) choose(Number(item.dataset.place));
    showValues();
  });
  names.addEventListener('dblclick', event => {
    if (!event.target.closest('li.group')) rename();
  });
  let dragged = -1;
  names.addEventListener('dragstart', event => { dragged = Number(event.target.closest('li').dataset.place); });
  names.addEventListener('dragover', event => event.preventDefault());
  names.addEventListener('drop', event => {
    event.preventDefault();
    const item = event.target.closest('li');
    if (item && dragged >= 0 && item.dataset.group) regroup(shown()[dragged], item.dataset.group);
    else if (item && dragged >= 0) moveLane(dragged, Number(item.dataset.place));
    dragged = -1;
  });

  function turn() {
    const dark = document.documentElement.dataset.theme === 'dark';
    document.documentElement.dataset.theme = dark ? 'light' : 'dark';
    readColours();
    changed(false);
  }
  function showAll() {
    view.lanes.forEach(lane => { lane.hidden = false; });
    view.lanes = Waves.together(view.lanes);
    changed(true);
  }
  const KEYS = {
    '+': () => zoom(0.7), '=': () => zoom(0.7), '-': () => zoom(1 / 0.7), 0: fit,
    ArrowLeft: () => pan(-0.15), ArrowRight: () => pan(0.15),
    n: () => seek(true), p: () => seek(false), h: hide, s: showAll, r: rename, t: turn,
    g: askGroup, G: groupAll, f: foldChosen,
    a: () => pointer && setCursor('a', pointer.x, pointer.y),
    b: () => pointer && setCursor('b', pointer.x, pointer.y),
    '/': () => element('search').focus(), '?': () => element('keys').showModal(),
    Escape: () => { view.a = view.b = null; changed(false); },
  };
  document.addEventListener('keydown', event => {
    if (event.target.tagName === 'INPUT' || event.ctrlKey || event.metaKey || event.altKey || element('keys').open) return;
    if (event.key === 'ArrowUp' || event.key === 'ArrowDown') {
      const to = chosen + (event.key === 'ArrowUp' ? -1 : 1);
      if (event.shiftKey) moveLane(chosen, to);
      else if (to >= 0 && to < shown().length) choose(to);
      showValues();
    } else if (KEYS[event.key]) {
      KEYS[event.key]();
    } else {
      return;
    }
    event.preventDefault();
  });
  element('search').addEventListener('keydown', event => {
    if (event.key === 'Enter') seek(!event.shiftKey, event.target.value);
    if (event.key === 'Escape') event.target.blur();
  });
  for (const [id, act] of [['previous', () => seek(false)], ['next', () => seek(true)], ['closer', () => zoom(0.5)],
                           ['farther', () => zoom(2)], ['fit', fit], ['all', showAll], ['theme', turn],
                           ['help', () => element('keys').showModal()]])
    element(id).addEventListener('click', act);
  window.addEventListener('resize', () => changed(false));
  window.addEventListener('hashchange', () => {
    adopt(location.hash);
    changed(true);
  });

  document.documentElement.dataset.theme =
    matchMedia('(prefers-color-scheme: dark)').matches ? 'dark' : 'light';
  readColours();
  adopt(location.hash);
  makeNames();
  draw();
})();
