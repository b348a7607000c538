// SPDX-License-Identifier: MIT
// Where the cycles went. Data: cycles, asleep, entering, unknown; functions, calls (each with the
// index of its caller) and lines, as `show profile --json` gives them.
'use strict';
(() => {
  const data = JSON.parse(document.getElementById('data').textContent);
  const $ = id => document.getElementById(id);
  const awake = Math.max(1, data.cycles - data.asleep);
  const grouped = n => String(n).replace(/\B(?=(\d{3})+$)/g, ',');
  const percent = n => n > 0 && n * 2000 < data.cycles ? '< 0.1 %' : (100 * n / data.cycles).toFixed(1) + ' %';
  const functions = new Map(data.functions.filter(f => !f.inlined_in).map(f => [f.name, f]));
  const make = (tag, more = {}, ...inside) => {
    const element = Object.assign(document.createElement(tag), more);
    element.append(...inside);
    return element;
  };

  // The tree: what took longest first, each beginning where its caller's own code ends.
  const nodes = data.calls.map((call, index) => ({...call, index, below: [], open: false}));
  const roots = [];
  for (const node of nodes) (node.caller === undefined ? roots : nodes[node.caller].below).push(node);
  const longest = (a, b) => b.cycles - a.cycles || a.index - b.index;
  const place = (list, at, depth) => {
    list.sort(longest);
    for (const node of list) {
      node.at = at;
      node.depth = depth;
      node.open = node.below.length !== 0 && depth < 12 && node.cycles * 20 >= awake;
      place(node.below, at + node.self, depth + 1);
      at += node.cycles;
    }
  };
  place(roots, 0, 0);

  let root = null;   // what is shown alone
  let chosen = null, sought = '';
  const shown = [];  // nodes, in the order of their rows

  function rows() {
    const tree = $('tree');
    const [from, whole] = root ? [root.at, Math.max(1, root.cycles)] : [0, awake];
    shown.length = 0;
    const out = [make('div', {className: 'titles'}, make('span', {textContent: 'call'}), make('span', {textContent:
      `${grouped(whole)} cycles${root ? ' of ' + root.function : data.asleep ? ', sleep left out' : ''}`}),
    ...['share', 'own cycles', 'with calls', 'calls'].map(text => make('span', {className: 'number', textContent: text})))];
    const add = (node, depth) => {
      shown.push(node);
      const row = make('div', {className: 'call' + (node.handler ? ' handler' : '')});
      row.setAttribute('role', 'treeitem');
      row.setAttribute('aria-level', depth + 1);
      if (node.below.length) row.setAttribute('aria-expanded', node.open);
      if (node === chosen) row.classList.add('chosen');
      if (sought && node.function.toLowerCase().includes(sought)) row.classList.add('found');
      const name = make('span', {className: 'name', title: node.function},
        make('i', {textContent: node.below.length ? node.open ? '▾' : '▸' : ''}), make('b', {textContent: node.function}));
      name.style.paddingLeft = 14 * depth + 'px';
      if (node.handler) name.append(make('small', {textContent: 'handler'}));
      const part = (kind, at, cycles) => {
        const span = make('span', {className: kind});
        span.style.left = 100 * (at - from) / whole + '%';
        span.style.width = 100 * cycles / whole + '%';
        return span;
      };
      row.append(name, make('span', {className: 'bar'}, part('called', node.at, node.cycles), part('own', node.at, node.self)),
        ...[percent(node.cycles), grouped(node.self), grouped(node.cycles), grouped(node.calls)]
          .map(text => make('span', {className: 'number', textContent: text})));
      row.addEventListener('click', event => {
        if (event.target.tagName === 'I' && node.below.length) node.open = !node.open;
        choose(node);
      });
      row.addEventListener('dblclick', () => alone(node));
      out.push(row);
      if (node.open) for (const below of node.below) add(below, depth + 1);
    };
    if (root) add(root, 0);
    else for (const node of roots) add(node, 0);
    tree.replaceChildren(...out);
  }

  function choose(node, scroll) {
    chosen = node;
    rows();
    const row = $('tree').children[shown.indexOf(node) + 1];
    if (scroll && row) row.scrollIntoView({block: 'nearest'});
    one();
    const chain = [];
    for (let n = node; n; n = n.caller === undefined ? null : nodes[n.caller]) chain.unshift(n.function);
    $('status').textContent = chain.join(' → ');
    history.replaceState(null, '', '#' + (root ? `only=${root.index}&` : '') + `call=${node.index}`);
  }
  function reveal(node) {
    for (let n = node; n && n.caller !== undefined && n !== root; n = nodes[n.caller]) nodes[n.caller].open = true;
    choose(node, true);
  }
  function alone(node) {
    root = node;
    if (root) root.open = true;
    $('all').disabled = !root;
    if (chosen || root) choose(root || chosen, true);
    else rows();
  }

  // The chosen function: who calls it, what it calls, its lines.
  function one() {
    const name = chosen.function, f = functions.get(name);
    const sum = (list, key) => {
      const out = new Map();
      for (const [who, cycles, calls] of list) {
        const [a, b] = out.get(who) || [0, 0];
        out.set(who, [a + cycles, b + calls]);
      }
      return [...out].map(([who, [cycles, calls]]) => [who, cycles, calls]).sort((a, b) => b[1] - a[1]);
    };
    const table = (title, list, link) => list.length === 0 ? [] : [make('h3', {textContent: title}), make('table', {},
      ...list.slice(0, 12).map(([text, cycles, calls]) => {
        const label = link ? make('a', {textContent: text}) : document.createTextNode(text);
        if (link) label.addEventListener('click', () => {
          const to = nodes.find(n => n.function === text && (n.caller === undefined || nodes[n.caller].function === name)) || nodes.find(n => n.function === text);
          if (to) reveal(to);
        });
        return make('tr', {}, make('td', {}, label), make('td', {className: 'number', textContent: grouped(cycles)}),
          make('td', {className: 'number', textContent: calls === undefined ? '' : grouped(calls) + '×'}));
      }))];
    const mine = nodes.filter(n => n.function === name);
    const callers = sum(mine.filter(n => n.caller !== undefined).map(n => [nodes[n.caller].function, n.cycles, n.calls]));
    const callees = sum(mine.flatMap(n => n.below).map(n => [n.function, n.cycles, n.calls]));
    const lines = data.lines.filter(l => l.function === name).slice(0, 12).map(l => [`${l.file}:${l.line}`, l.cycles, l.passes]);
    const bodies = data.functions.filter(g => g.inlined_in === name).map(g => [g.name, g.cycles]);
    $('one').replaceChildren(make('h2', {textContent: name}),
      make('p', {textContent: (f && f.file ? `${f.file}:${f.line} · ` : '') + (f ? `${grouped(f.calls)} calls, ${grouped(f.cycles)} own cycles, ${percent(f.cycles)}` : '')}),
      ...table('called by', callers, true), ...table('calls', callees, true),
      ...table('bodies that stand in it', bodies, false), ...table('lines, and passes', lines, false));
  }

  // What all of it is made of.
  const handlers = roots.filter(n => n.handler).reduce((sum, n) => sum + n.cycles, 0);
  const code = Math.max(0, data.cycles - data.asleep - data.entering - data.unknown - handlers);
  const parts = [['code', 'the program', code], ['handlers', 'handlers', handlers], ['entering', 'entering interrupts', data.entering],
    ['unknown', 'in no function', data.unknown], ['asleep', 'asleep', data.asleep]].filter(part => part[2] > 0);
  for (const [kind, text, cycles] of parts) {
    const span = make('span', {className: kind, textContent: cycles * 12 >= data.cycles ? `${text} ${percent(cycles)}` : '', title: `${text}: ${grouped(cycles)} cycles`});
    span.style.flex = `${cycles} 0 0`;
    $('parts').append(span);
  }
  $('parts').setAttribute('aria-label', parts.map(([, text, cycles]) => `${text} ${percent(cycles)}`).join(', '));

  function seek(next) {
    sought = $('search').value.trim().toLowerCase();
    if (!sought) return rows();
    const found = nodes.filter(n => n.function.toLowerCase().includes(sought)).sort(longest);
    $('status').textContent = found.length ? '' : `no call of '${$('search').value}'`;
    if (!found.length) return rows();
    const at = found.indexOf(chosen);
    root = null;
    $('all').disabled = true;
    reveal(found[next && at >= 0 ? (at + 1) % found.length : Math.max(0, next ? 0 : at)]);
  }
  function turn() {
    const style = document.documentElement;
    const dark = style.dataset.theme ? style.dataset.theme === 'dark' : matchMedia('(prefers-color-scheme: dark)').matches;
    style.dataset.theme = dark ? 'light' : 'dark';
  }
  $('search').addEventListener('input', () => seek(false));
  $('search').addEventListener('keydown', event => {
    if (event.key === 'Enter') seek(true);
    if (event.key === 'Escape') $('tree').focus();
    event.stopPropagation();
  });
  $('all').addEventListener('click', () => alone(null));
  $('theme').addEventListener('click', turn);
  $('help').addEventListener('click', () => $('keys').showModal());
  document.addEventListener('keydown', event => {
    if ($('keys').open || event.ctrlKey || event.metaKey || event.altKey) return;
    const at = shown.indexOf(chosen);
    const keys = {
      ArrowDown: () => choose(shown[Math.min(shown.length - 1, at + 1)], true),
      ArrowUp: () => choose(shown[Math.max(0, at - 1)], true),
      ArrowRight: () => {
        if (!chosen.below.length) return;
        if (chosen.open) return choose(chosen.below[0], true);
        chosen.open = true;
        choose(chosen, true);
      },
      ArrowLeft: () => {
        if (chosen.open) chosen.open = false;
        else if (chosen.caller !== undefined && chosen !== root) return choose(nodes[chosen.caller], true);
        choose(chosen, true);
      },
      Enter: () => alone(chosen),
      Escape: () => alone(null),
      '/': () => $('search').focus(),
      t: turn,
      '?': () => $('keys').showModal(),
    };
    if (!keys[event.key] || (!chosen && event.key.startsWith('Arrow'))) return;
    keys[event.key]();
    event.preventDefault();
  });
  const wanted = new URLSearchParams(location.hash.slice(1));
  if (matchMedia('(prefers-color-scheme: dark)').matches) document.documentElement.dataset.theme = 'dark';
  if (nodes[wanted.get('only')]) alone(nodes[wanted.get('only')]);
  const first = nodes[wanted.get('call')] || root || [...nodes].sort((a, b) => b.self - a.self)[0];
  if (first) reveal(first);
  else rows();
})();
