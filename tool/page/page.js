// The page of a run: shows what was written into it; all sentences come with it.
(() => {
  'use strict';
  const $ = (id) => document.getElementById(id);
  const run = JSON.parse($('run').textContent);
  const { names, shapes, rests, paths, events, calls, decisions, moments } = run;
  const SVG = 'http://www.w3.org/2000/svg';

  // Places in rows; see tool/view.c.
  const E = { shape: 0, number: 1, t: 2, step: 3, target: 4, cause: 5, bits: 6, path: 7, rest: 8, place: 9 };
  const C = { event: 0, at: 1, phase: 2, handler: 3, verdict: 4 };
  const D = { what: 0, event: 1, t: 2, about: 3, text: 4 };
  const M = { t: 0, step: 1, scene: 2, events: 3, calls: 4, merged: 5, deferred: 6 };
  const BITS = { gone: 1, passed: 2, mirror: 4, dropped: 8, unheard: 16 };
  const TOLD = { gone: 'had a target that has gone', passed: 'was passed on', mirror: 'is the second of two that sense each other', dropped: 'was dropped' };
  const SHAPES = ['line', 'polygon', 'circle', 'disc', 'text'];
  const ROW = 22;
  const TRAIL_MS = 1500;
  const SHOWN = 200; // of a long list in the detail
  const LABEL = 11; // a name's height, in pixels
  const LABELS = 400;
  const CROWD = 100; // of so many targets only names that are free where they belong

  const what = Object.fromEntries(run.whats.map((row, i) => [row[0], i]));
  const kindOf = (event) => shapes[event[E.shape]][0];
  const familyOf = (kind) => kind.split('.')[0];
  const ms = (t) => t.toFixed(3) + ' ms';

  // ------------------------------------------------------------ what belongs together
  const atNumber = new Map(events.map((event, i) => [event[E.number], i]));
  const group = (rows, key) => {
    const groups = new Map();
    for (const row of rows) {
      const k = key(row);
      if (groups.has(k)) groups.get(k).push(row);
      else groups.set(k, [row]);
    }
    return groups;
  };
  const callsOf = group(calls, (row) => row[C.event]);
  const callsBy = group(calls, (row) => row[C.handler]);
  const decisionsOf = group(decisions, (row) => row[D.event]);
  // Of whom each sort of them tells.
  const tellsOf = { press: 'action', hit: 'target', refuse: 'kind' };
  const decisionsAbout = group(decisions, (row) => (tellsOf[names[row[D.what]]] || 'handler') + ' ' + row[D.about]);
  const causedBy = group(events.filter((event) => event[E.cause] > 0), (event) => event[E.cause]);
  const eventsAt = group(events, (event) => event[E.target]);
  const answers = new Map(run.answers.map((row) => [row[0] + ' ' + row[1], row]));
  const none = [];

  // The last of the rows whose first value is at most `value`; -1: none.
  const lastUpTo = (rows, value, key = 0) => {
    let low = 0;
    let high = rows.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (rows[middle][key] <= value) low = middle + 1;
      else high = middle;
    }
    return low - 1;
  };

  // ---------------------------------------------------------------------- state
  let now = 0; // the moment
  let chosen = null; // {event: i} or {about: name's number, of: name's number}
  let listed = []; // events that the filter lets through
  let playing = 0;
  let theme = matchMedia('(prefers-color-scheme: light)').matches ? 'light' : 'dark';

  // ---------------------------------------------------------------------- scene
  const scene = $('scene');
  const looks = new Map(); // of a name: since which scene, its marks, moved by what
  const lookOf = (name, look) => {
    if (looks.has(name)) looks.get(name).push(look);
    else looks.set(name, [look]);
  };
  for (const row of run.marks) {
    if (Array.isArray(row[2])) lookOf(row[1], [row[0], row[2], 0, 0]);
    else for (const name of row.slice(3)) lookOf(name, [row[0], looks.get(name).at(-1)[1], row[1], row[2]]);
  }
  const drawn = new Map(); // name's number: its group, and the row that it shows
  let shownOrder = -1;
  const [left, top, width, height] = run.view;
  scene.setAttribute('viewBox', [left, top, width, height].join(' '));
  const make = (tag, attributes) => {
    const element = document.createElementNS(SVG, tag);
    for (const [name, value] of Object.entries(attributes)) element.setAttribute(name, value);
    return element;
  };
  const frame = make('rect', { x: left, y: top, width, height, class: 'frame', fill: 'none' });
  const targets = make('g', {});
  const pointers = make('g', { id: 'pointers' });
  const trails = make('g', { id: 'trails' });
  const labels = make('g', { id: 'labels' });
  scene.append(frame, targets, trails, labels, pointers);
  // How many units a pixel is: texts and pointers are as large on any page.
  let unit = 1;
  const measure = () => {
    const box = scene.getBoundingClientRect();
    unit = Math.max(width / (box.width || 1), height / (box.height || 1));
  };

  const ink = (element, mark, filled) => {
    const [line, fill, wide, dashed] = run[theme][mark];
    element.setAttribute('stroke', line);
    element.setAttribute('fill', filled ? fill : 'none');
    element.setAttribute('stroke-width', wide);
    element.setAttribute('vector-effect', 'non-scaling-stroke');
    if (dashed) element.setAttribute('stroke-dasharray', '5 4');
    element.dataset.what = run.whats[mark][0];
    return element;
  };
  const drawMark = ([mark, shape, ...values]) => {
    const filled = mark < what.pointer || SHAPES[shape] === 'disc';
    if (SHAPES[shape] === 'line')
      return ink(make('line', { x1: values[0], y1: values[1], x2: values[2], y2: values[3] }), mark, false);
    if (SHAPES[shape] === 'polygon') return ink(make('polygon', { points: values.join(' ') }), mark, filled);
    const radius = mark === what.pointer ? values[2] * unit : Math.max(values[2], 1.5 * unit);
    return ink(make('circle', { cx: values[0], cy: values[1], r: radius }), mark, filled);
  };

  // Names are above all targets, each in a line of its own: the topmost first.
  const drawLabels = (seen) => {
    const size = LABEL * unit;
    const taken = [];
    const elements = [];
    for (const name of [...seen].reverse()) {
      const { marks, dx, dy } = drawn.get(name);
      for (const [mark, shape, x, y, content] of marks) {
        if (SHAPES[shape] !== 'text' || elements.length === LABELS) continue;
        const wide = content.length * size * 0.62;
        const right = Math.max(left, left + width - wide);
        const at = { x: Math.min(x + dx + size / 3, right), y: y + dy - size / 3 };
        const tries = seen.length > CROWD ? 0 : 12;
        const hits = (box) => at.x < box.x + box.wide && box.x < at.x + wide && Math.abs(at.y - box.y) < size * 1.1;
        for (let line = 0; line < tries && taken.some(hits); line++) at.y += size * 1.15;
        if (taken.some(hits)) continue; // none is better than one upon another
        taken.push({ ...at, wide });
        const label = make('text', { x: at.x, y: at.y, 'font-size': size, fill: run[theme][mark][0] });
        label.dataset.what = run.whats[mark][0];
        label.textContent = content;
        elements.push(label);
      }
    }
    labels.replaceChildren(...elements);
  };

  // A target as it was at a scene: in full, or moved.
  const drawTarget = (name, at) => {
    const rows = looks.get(name) || none;
    const row = lastUpTo(rows, at);
    const there = drawn.get(name);
    if (there && there.row === row) return there.element;
    const [, marks, dx, dy] = rows[row] || [0, none, 0, 0];
    const element = there ? there.element : make('g', { class: 'target' });
    if (!there) {
      element.dataset.name = names[name];
      element.addEventListener('click', () => choose({ about: nameNumber('target'), of: name }));
    }
    if (!there || there.marks !== marks)
      element.replaceChildren(...marks.filter((mark) => SHAPES[mark[1]] !== 'text').map(drawMark));
    element.setAttribute('transform', `translate(${dx} ${dy})`);
    drawn.set(name, { element, row, marks, dx, dy });
    return element;
  };

  const drawScene = () => {
    const at = moments[now][M.scene];
    const order = lastUpTo(run.orders, at);
    const seen = order >= 0 ? run.orders[order][1] : none;
    const elements = seen.map((name) => drawTarget(name, at));
    if (order !== shownOrder) targets.replaceChildren(...elements);
    shownOrder = order;
    drawLabels(seen);
    const held = lastUpTo(run.pointers, at);
    pointers.replaceChildren(...(held >= 0 ? run.pointers[held][1].map(drawMark) : none));
    drawTrails();
  };

  // Where pointers went: from the events, by the places of their values.
  const isOfPointer = /^pointer\.(move|down|up|cancel)$/;
  const placeOf = shapes.map(([kind, places, others]) => ({
    kind,
    x: E.place + places.indexOf('x'),
    y: E.place + places.indexOf('y'),
    pointer: others.indexOf('pointer'),
    device: others.indexOf('device'),
  }));
  const steps = [];
  events.forEach((event, i) => {
    if (isOfPointer.test(kindOf(event)) && !(event[E.bits] & BITS.passed)) steps.push(i);
  });
  const drawTrails = () => {
    const until = moments[now][M.events];
    const marks = [];
    const before = new Map();
    const t = moments[now][M.t];
    let low = 0;
    let high = steps.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (events[steps[middle]][E.t] < t - TRAIL_MS) low = middle + 1;
      else high = middle;
    }
    for (let i = low; i < steps.length && steps[i] < until; i++) {
      const event = events[steps[i]];
      const place = placeOf[event[E.shape]];
      const x = event[place.x];
      const y = event[place.y];
      const rest = rests[event[E.rest]];
      const who = rest[place.device] + ' ' + rest[place.pointer];
      const last = before.get(who);
      if (last) marks.push([what.trail, 0, last[0], last[1], x, y]);
      if (place.kind === 'pointer.down') marks.push([what.press, 3, x, y, 3 * unit]);
      if (place.kind === 'pointer.up' || place.kind === 'pointer.cancel')
        marks.push([what.release, 2, x, y, 3 * unit]);
      before.set(who, [x, y]);
    }
    trails.replaceChildren(...marks.map(drawMark));
  };

  const drawLegend = () => {
    const used = new Set();
    for (const row of run.marks) if (Array.isArray(row[2])) for (const mark of row[2]) used.add(mark[0]);
    for (const row of run.pointers) for (const mark of row[1]) used.add(mark[0]);
    if (steps.length > 0) for (const name of ['trail', 'press', 'release']) used.add(what[name]);
    used.delete(what.name);
    $('legend').replaceChildren(
      ...[...used].sort((a, b) => a - b).map((mark) => {
        const item = document.createElement('li');
        const box = make('svg', { viewBox: '0 0 18 11' });
        box.append(ink(make('rect', { x: 1, y: 1, width: 16, height: 9 }), mark, true));
        item.append(box, run.whats[mark][1]);
        return item;
      }),
    );
  };

  // ----------------------------------------------------------------------- list
  const list = $('list');
  let listHeight = 0;
  const rows = $('rows');

  const matches = (event, family, heard, query, named, valued) => {
    if (family && familyOf(kindOf(event)) !== family) return false;
    const heardBy = callsOf.get(event[E.number]) || none;
    if (heard && heardBy.length === 0) return false;
    if (!query) return true;
    if (kindOf(event).toLowerCase().includes(query) || named[event[E.target]]) return true;
    if (heardBy.some((call) => named[call[C.handler]] || named[call[C.at]])) return true;
    return valued[event[E.rest]];
  };

  const filter = () => {
    const query = $('search').value.trim().toLowerCase();
    const named = names.map((name) => query !== '' && name.toLowerCase().includes(query));
    const valued = rests.map((rest) => rest.flat().some((value) => typeof value === 'string' && value.toLowerCase().includes(query)));
    listed = [];
    events.forEach((event, i) => {
      if (matches(event, $('family').value, $('heard').checked, query, named, valued)) listed.push(i);
    });
    $('room').style.height = listed.length * ROW + 'px';
    $('found').textContent = `${listed.length} of ${events.length}`;
    scrollToNow();
    drawList();
  };

  const heardText = (event) => {
    const heardBy = callsOf.get(event[E.number]) || none;
    if (event[E.bits] & BITS.dropped) return 'dropped: its target has gone';
    if (heardBy.length === 0) return 'nobody heard';
    return heardBy.map((call) => names[call[C.handler]] || 'a handler without a name').join(', ');
  };

  // Rows are made once, and filled again as the list is scrolled.
  const makeRow = () => {
    const row = document.createElement('div');
    row.setAttribute('role', 'option');
    for (const name of ['t', 'kind', 'target', 'who']) row.append(Object.assign(document.createElement('span'), { className: name }));
    row.addEventListener('click', () => chooseEvent(Number(row.dataset.event)));
    return row;
  };
  const fillRow = (row, i, from, until) => {
    const event = events[i];
    const isChosen = chosen !== null && chosen.event === i;
    const texts = [event[E.t].toFixed(3), kindOf(event), names[event[E.target]], heardText(event)];
    texts.forEach((content, k) => {
      const span = row.children[k];
      if (span.textContent === content) return;
      span.textContent = content;
      span.title = content;
    });
    row.className = 'row' + (i >= until ? ' later' : i >= from ? ' now' : '') + (isChosen ? ' chosen' : '') + (callsOf.has(event[E.number]) ? '' : ' unheard');
    row.id = 'event-' + i;
    row.dataset.event = i;
    row.setAttribute('aria-selected', String(isChosen));
  };

  const drawList = () => {
    const first = Math.max(0, Math.floor(list.scrollTop / ROW) - 4);
    const count = Math.min(listed.length - first, Math.ceil(listHeight / ROW) + 8);
    const until = moments[now][M.events];
    const from = now > 0 ? moments[now - 1][M.events] : 0;
    rows.style.transform = `translateY(${first * ROW}px)`;
    while (rows.children.length < count) rows.append(makeRow());
    while (rows.children.length > count) rows.lastChild.remove();
    for (let k = 0; k < count; k++) fillRow(rows.children[k], listed[first + k], from, until);
    const active = chosen && chosen.event !== undefined ? 'event-' + chosen.event : '';
    if (active && document.getElementById(active)) list.setAttribute('aria-activedescendant', active);
    else list.removeAttribute('aria-activedescendant');
  };

  const placeInList = (event) => {
    let low = 0;
    let high = listed.length;
    while (low < high) {
      const middle = (low + high) >> 1;
      if (listed[middle] < event) low = middle + 1;
      else high = middle;
    }
    return low;
  };
  const scrollTo = (place) => {
    const at = place * ROW;
    if (at < list.scrollTop || at > list.scrollTop + listHeight - ROW) list.scrollTop = Math.max(0, at - listHeight / 2);
  };
  const scrollToNow = () => scrollTo(Math.max(0, placeInList(moments[now][M.events]) - 1));

  // --------------------------------------------------------------------- detail
  const detail = $('detail');
  const nameNumber = (name) => names.indexOf(name);
  const text = (tag, content) => {
    const element = document.createElement(tag);
    element.textContent = content;
    return element;
  };
  const link = (content, act) => {
    const button = text('button', content);
    button.type = 'button';
    button.className = 'link';
    button.addEventListener('click', act);
    return button;
  };
  const table = (title, lines) => {
    const parts = [text('h2', title)];
    const body = document.createElement('table');
    for (const line of lines.slice(0, SHOWN)) {
      const row = document.createElement('tr');
      line.forEach((part, i) => {
        const part_of = document.createElement(i === 0 ? 'th' : 'td');
        part_of.append(part);
        row.append(part_of);
      });
      body.append(row);
    }
    parts.push(body);
    if (lines.length > SHOWN) parts.push(text('p', `and ${lines.length - SHOWN} more`));
    return lines.length > 0 ? parts : [];
  };
  const nameLink = (about, name) =>
    answers.has(nameNumber(about) + ' ' + name) || about !== 'action'
      ? link(names[name] || 'without a name', () => choose({ about: nameNumber(about), of: name }))
      : names[name];
  const eventLink = (i) => link(`${ms(events[i][E.t])}  ${kindOf(events[i])}`, () => chooseEvent(i));
  const valueText = (value) =>
    Array.isArray(value) ? value.join(', ') || 'none' : value === null ? 'none' : String(value);

  const showEvent = (i) => {
    const event = events[i];
    const number = event[E.number];
    const shape = shapes[event[E.shape]];
    const cause = atNumber.get(event[E.cause]);
    const bits = Object.keys(TOLD).filter((name) => event[E.bits] & BITS[name]).map((name) => TOLD[name]);
    const path = paths[event[E.path]] || none;
    detail.replaceChildren(
      text('h2', `${kindOf(event)} at ${ms(event[E.t])}, step ${event[E.step]}`),
      ...table('Path', path.length > 0 ? [path.flatMap((name, k) => (k > 0 ? [' > ', nameLink('target', name)] : [nameLink('target', name)])).reduce((all, part) => (all.append(part), all), document.createElement('span'))].map((all) => ['to', all]) : none),
      ...table('Heard by', (callsOf.get(number) || none).map((call) => [
        nameLink('handler', call[C.handler]), 'at ' + names[call[C.at]], names[call[C.phase]], names[call[C.verdict]]])),
      ...table('Decided', (decisionsOf.get(number) || none).map((row) => [
        names[row[D.about]], names[row[D.text]]])),
      ...table('Comes of', cause === undefined ? none : [[eventLink(cause), names[events[cause][E.target]]]]),
      ...table('Caused', (causedBy.get(number) || none).map((row) => {
        const at = atNumber.get(row[E.number]);
        return [eventLink(at), names[row[E.target]]];
      })),
      ...table('Fields', [
        ...(bits.length > 0 ? [['it', bits.join(', ')]] : none),
        ...shape[1].map((name, k) => [name, valueText(event[E.place + k])]),
        ...shape[2].map((name, k) => [name, valueText(rests[event[E.rest]][k])]),
      ]),
    );
  };

  const showSubject = ({ about, of }) => {
    const answer = answers.get(about + ' ' + of);
    const heard = names[about] === 'handler' ? callsBy.get(of) || none : none;
    const came = names[about] === 'target' ? eventsAt.get(of) || none : none;
    detail.replaceChildren(
      text('h2', `${names[about]} ${names[of]}`),
      text('pre', answer ? answer[4] : 'This run has no answer about it.'),
      ...table('Decided', (decisionsAbout.get(names[about] + ' ' + of) || none).map((row) => {
        const at = atNumber.get(row[D.event]);
        return [at !== undefined ? eventLink(at) : ms(row[D.t]), names[row[D.text]]];
      })),
      ...table('Called', heard.filter((call) => atNumber.has(call[C.event])).map((call) => [
        eventLink(atNumber.get(call[C.event])), 'at ' + names[call[C.at]], names[call[C.verdict]]])),
      ...table('Events', came.map((event) => [eventLink(atNumber.get(event[E.number])), heardText(event)])),
    );
  };

  const showChosen = () => {
    if (chosen === null) detail.replaceChildren(text('p', 'Choose an event, a target in the picture, or of "why" below.'));
    else if (chosen.event !== undefined) showEvent(chosen.event);
    else showSubject(chosen);
    for (const element of targets.children)
      element.classList.toggle('chosen', chosen !== null && chosen.of !== undefined && element.dataset.name === names[chosen.of]);
  };
  const choose = (subject) => {
    chosen = subject;
    $('subject').value = subject && subject.of !== undefined ? subject.about + ' ' + subject.of : '';
    showChosen();
    drawList();
    detail.scrollTop = 0;
  };
  const chooseEvent = (i) => {
    choose({ event: i });
    const moment = moments.length - 1;
    let at = lastUpTo(moments, i, M.events) + 1;
    if (at > moment) at = moment;
    seek(at);
    scrollTo(placeInList(i));
  };

  const fillSubjects = () => {
    for (const about of ['handler', 'action', 'target']) {
      const rows = run.answers.filter((row) => names[row[0]] === about);
      if (rows.length === 0) continue;
      const part = document.createElement('optgroup');
      part.label = about + 's';
      for (const row of rows) {
        const option = text('option', `${names[row[1]]} (${row[2]})`);
        option.value = row[0] + ' ' + row[1];
        part.append(option);
      }
      $('subject').append(part);
    }
  };

  // --------------------------------------------------------------------- charts
  let chart = null;
  const colour = (name) => getComputedStyle(document.documentElement).getPropertyValue(name).trim();
  // The moment is a line above the chart, which need not be drawn anew for it.
  const nowLine = document.createElement('div');
  nowLine.id = 'now';
  const drawNow = () => {
    nowLine.style.transform = `translateX(${chart.valToPos(moments[now][M.t] / 1000, 'x')}px)`;
    chart.setLegend({ idx: now });
  };
  // Bars, or dots where there is anything at all.
  const bars = (label, mark, wide) => ({
    label, stroke: run[theme][mark][0], fill: run[theme][mark][0] + '80', width: 1, paths: uPlot.paths.bars({ size: [wide, 40] }), points: { show: false },
  });
  const dots = (label, mark, size) => ({
    label, stroke: run[theme][mark][0], paths: () => null, points: { show: true, size, fill: size > 6 ? 'transparent' : run[theme][mark][0] },
  });
  const countsOf = (key, empty) => moments.map((row) => row[key] || empty);
  const makeChart = () => {
    const box = $('chart');
    if (chart) chart.destroy();
    const axis = { stroke: colour('--text'), grid: { stroke: colour('--line'), width: 1 }, ticks: { stroke: colour('--line') }, font: '11px "DejaVu Sans", sans-serif' };
    const counts = moments.map((row, i) => row[M.events] - (i > 0 ? moments[i - 1][M.events] : 0));
    chart = new uPlot(
      {
        width: box.clientWidth,
        height: 108,
        scales: { x: { time: false } },
        axes: [{ ...axis, size: 26, values: (u, ticks) => ticks.map((tick) => tick + ' s') }, { ...axis, size: 44, space: 20 }],
        series: [
          { label: 'seconds' },
          bars('events', what.off, 0.9),
          bars('calls', what.focus, 0.4),
          dots('merged moves', what.body, 9),
          dots('deferred', what.contact, 5),
        ],
        cursor: { drag: { x: false, y: false } },
      },
      [moments.map((row) => row[M.t] / 1000), counts, countsOf(M.calls, 0), countsOf(M.merged, null), countsOf(M.deferred, null)],
      box,
    );
    chart.over.append(nowLine);
    drawNow();
    chart.over.addEventListener('click', (event) => {
      const t = chart.posToVal(event.offsetX, 'x') * 1000;
      seek(Math.max(0, lastUpTo(moments, t, M.t)));
    });
  };

  // ----------------------------------------------------------------------- time
  const seek = (moment) => {
    now = Math.min(Math.max(0, moment), moments.length - 1);
    const row = moments[now];
    $('slider').value = now;
    $('slider').setAttribute('aria-valuetext', ms(row[M.t]));
    $('moment').textContent = `${ms(row[M.t])}, step ${row[M.step]} (${now + 1} of ${moments.length})`;
    drawScene();
    scrollToNow();
    drawList();
    drawNow();
  };

  let begun = 0;
  let begunAt = 0;
  const playOn = (time) => {
    const speed = Number($('speed').value);
    const t = begunAt + (time - begun) * speed;
    const at = lastUpTo(moments, t, M.t);
    if (at > now) seek(at);
    if (now === moments.length - 1) stop();
    else playing = requestAnimationFrame(playOn);
  };
  const stop = () => {
    cancelAnimationFrame(playing);
    playing = 0;
    $('play').textContent = 'play';
  };
  const play = () => {
    if (playing) {
      stop();
      return;
    }
    if (now === moments.length - 1) seek(0);
    begun = performance.now();
    begunAt = moments[now][M.t];
    $('play').textContent = 'stop';
    playing = requestAnimationFrame(playOn);
  };
  const step = (by) => {
    stop();
    seek(now + by);
  };

  // ----------------------------------------------------------------------- keys
  // From the chosen one, or from what comes after the moment.
  const nextEvent = (by) => {
    const isChosen = chosen !== null && chosen.event !== undefined;
    const at = isChosen ? chosen.event : moments[now][M.events];
    const place = placeInList(at);
    const to = by < 0 ? place - 1 : place + (isChosen && listed[place] === at ? 1 : 0);
    if (to >= 0 && to < listed.length) chooseEvent(listed[to]);
  };
  const keys = {
    ' ': play,
    ArrowLeft: (event) => step(event.shiftKey ? -10 : -1),
    ArrowRight: (event) => step(event.shiftKey ? 10 : 1),
    Home: () => step(-now),
    End: () => step(moments.length),
    ArrowUp: () => nextEvent(-1),
    ArrowDown: () => nextEvent(1),
    '/': () => $('search').focus(),
    h: () => $('heard').click(),
    w: () => $('subject').focus(),
    t: () => $('theme').click(),
    '?': () => $('help').click(),
  };
  document.addEventListener('keydown', (event) => {
    const at = event.target;
    if (event.key === 'Escape' && at === $('search')) at.blur();
    const typed = at.matches('input[type="search"], select') || event.ctrlKey || event.altKey || event.metaKey;
    const own = event.key === ' ' && at.matches('button, input[type="checkbox"]');
    if (typed || own || $('keys').open || !keys[event.key]) return;
    event.preventDefault();
    keys[event.key](event);
  });

  // ---------------------------------------------------------------------- begin
  const setTheme = (to) => {
    theme = to;
    document.documentElement.dataset.theme = to;
    // the palette of all pictures
    const inks = { '--ground': run[to][run.whats.length], '--text': run[to][what.name][0], '--quiet': run[to][what.off][0], '--strong': run[to][what.pointer][0], '--link': run[to][what.pass][0] };
    for (const [name, value] of Object.entries(inks)) document.documentElement.style.setProperty(name, value);
    $('theme').textContent = to === 'dark' ? 'light' : 'dark';
    frame.setAttribute('stroke', colour('--line'));
    redraw();
  };
  const redraw = () => {
    drawn.clear();
    shownOrder = -1;
    drawLegend();
    measure();
    listHeight = list.clientHeight;
    drawScene();
    makeChart();
    showChosen();
  };

  document.title = run.title;
  $('title').textContent = run.title;
  $('title').title = run.title;
  $('slider').max = moments.length - 1;
  for (const family of [...new Set(events.map((event) => familyOf(kindOf(event))))].sort()) $('family').append(text('option', family));
  fillSubjects();
  $('first').addEventListener('click', () => step(-now));
  $('back').addEventListener('click', () => step(-1));
  $('play').addEventListener('click', play);
  $('next').addEventListener('click', () => step(1));
  $('last').addEventListener('click', () => step(moments.length));
  $('slider').addEventListener('input', () => { stop(); seek(Number($('slider').value)); });
  $('theme').addEventListener('click', () => setTheme(theme === 'dark' ? 'light' : 'dark'));
  $('help').addEventListener('click', () => $('keys').showModal());
  $('filter').addEventListener('submit', (event) => event.preventDefault());
  for (const name of ['family', 'heard']) $(name).addEventListener('change', filter);
  $('search').addEventListener('input', filter);
  $('subject').addEventListener('change', () => {
    const [about, of] = $('subject').value.split(' ').map(Number);
    choose($('subject').value === '' ? null : { about, of });
  });
  list.addEventListener('scroll', drawList, { passive: true });
  addEventListener('resize', redraw);
  setTheme(theme);
  filter();
  seek(0);
  showChosen();
})();
