// What happened inside the last requests, in development: their list, which goes on as requests end, and the trail of one, from
// which its request can be sent again.

import { base64, el, freshId, leadsTo, memory, operations, setOut } from './page.js';
import { shellLine } from './lines.js';
import { send } from './send.js';
import { testOf } from './sent.js';

const blank = '[redacted]';
const most = 500; // rows of the list
// What the browser says by itself (Fetch, forbidden request-header), and what is about the body as it came.
const byItself = /^(accept-charset|accept-encoding|accept-language|connection|content-encoding|content-length|cookie|date|host|origin|priority|referer|te|traceparent|tracestate|transfer-encoding|upgrade.*|user-agent|via|x-request-id|sec-.*|proxy-.*)$/i;

/** The address of the trails of the API; undefined where it keeps none. */
export const trailsAt = () => document.querySelector('meta[name=trails]')?.content;

/** A link to what happened to a request; undefined where the API keeps no trails, or the answer does not name its request. */
export function insideOf(answer) {
  const id = trailsAt() && answer.header.find(([name]) => name === 'x-request-id')?.[1];
  return id && el('a', { href: new URL(`../trail/${encodeURIComponent(id)}`, import.meta.url).pathname, className: 'inside' }, 'What happened inside');
}

async function load(id) {
  const response = await fetch(`${trailsAt()}/${encodeURIComponent(id)}`, { headers: { Accept: 'application/json' }, cache: 'no-store' });
  const value = await response.json();
  if (!response.ok) throw new Error(`${value.title} ${value.detail ?? ''}`);
  return value;
}

/** Opens the pages of trails. What comes back ends what they do. */
export function openTrails(place) {
  const abort = new AbortController();
  const shown = place.dataset.id ? one(place, place.dataset.id, abort.signal) : list(place, abort.signal);
  shown.catch((e) => abort.signal.aborted || place.replaceChildren(el('p', { className: 'mark', role: 'alert' }, e.message)));
  return () => abort.abort();
}

// The list

async function list(place, signal) {
  const rows = new Map(); // by number
  const body = el('tbody');
  const failed = el('input', { type: 'checkbox', id: freshId(), onchange: () => [...rows.values()].forEach(narrow) });
  const narrow = (row) => { row.hidden = failed.checked && row.dataset.failed !== 'yes'; };
  const put = (trail) => {
    const row = rowOf(trail);
    narrow(row);
    if (rows.has(trail.number)) rows.get(trail.number).replaceWith(row);
    else body.prepend(row);
    rows.set(trail.number, row);
    for (const number of [...rows.keys()].slice(0, Math.max(0, rows.size - most))) {
      rows.get(number).remove();
      rows.delete(number);
    }
  };
  const count = el('p', { className: 'quiet', role: 'status' });
  place.replaceChildren(el('p', {}, failed, ' ', el('label', { htmlFor: failed.id }, 'only those that failed')), count,
    el('table', { className: 'trails' }, el('thead', {}, el('tr', {}, ...['Request', 'Answer', 'Took', 'Caller', 'At'].map((text) => el('th', { scope: 'col' }, text)))), body));
  const live = new EventSource(`${trailsAt()}/live`);
  signal.addEventListener('abort', () => live.close());
  live.onmessage = (e) => put(JSON.parse(e.data));
  const response = await fetch(trailsAt(), { headers: { Accept: 'application/json' }, cache: 'no-store', signal });
  const all = await response.json();
  for (const trail of all.reverse()) if (!rows.has(trail.number)) put(trail);
  count.textContent = all.length ? 'The newest is first. Requests come in as they end.' : 'There was no request yet. They come in as they end.';
}

function rowOf(trail) {
  const here = new URL('../trail/', import.meta.url).pathname;
  const row = el('tr', {}, el('th', { scope: 'row' }, el('a', { href: `${here}${trail.request || trail.number}` }, `${trail.method} ${trail.target}`),
    ...(trail.notes ?? []).map((note) => el('p', { className: 'mark' }, note))),
  el('td', {}, el('span', { className: trail.code || trail.status >= 400 ? 'mark' : 'well' }, said(trail))), el('td', {}, milliseconds(trail.took)),
  el('td', {}, trail.caller ?? ''), el('td', {}, new Date(trail.at).toLocaleTimeString()));
  row.dataset.failed = trail.code || trail.status >= 400 || trail.notes ? 'yes' : 'no';
  return row;
}

const said = ({ done, status, code }) => (done ? [status || 'no answer', code].filter(Boolean).join(' ') : 'under way');

const milliseconds = (ms) => `${ms < 10 ? ms.toFixed(2) : Math.round(ms)} ms`;

// One trail

async function one(place, id, signal) {
  let trail = await load(id);
  draw(place, trail);
  while (!trail.done) { // it goes on
    await new Promise((resume) => setTimeout(resume, 500));
    if (signal.aborted) return;
    trail = await load(id);
    draw(place, trail);
  }
}

function draw(place, trail) {
  const { failure } = trail;
  const facts = [['Answer', said(trail)], ['Took', milliseconds(trail.took)], ['At', new Date(trail.at).toLocaleString()], ['Route', [trail.route, trail.version].filter(Boolean).join(', ') || 'none takes it'],
    ['Served by', trail.served], ['Caller', [trail.caller, trail.issuer && `of ${trail.issuer}`].filter(Boolean).join(' ')], ['Request', trail.request]];
  document.querySelector('h1').textContent = `${trail.method} ${trail.target}`;
  place.replaceChildren(...[
    ...(trail.notes ?? []).map((note) => el('p', { className: 'fault note' }, note)),
    el('dl', { className: 'facts' }, ...facts.filter(([, value]) => value).map(([name, value]) => el('div', {}, el('dt', {}, name), el('dd', {}, value)))),
    ...(failure ? failed(failure) : []),
    el('h2', {}, 'Steps'), steps(trail),
    el('h2', {}, 'The request'), ...(trail.done ? again(trail) : [el('p', {}, 'It goes on.')]),
    ...fields('header fields', trail.header),
    trail.body && el('h3', {}, 'Its body'), trail.body && el('pre', { tabIndex: 0, 'aria-label': 'the body of the request' }, setOut(trail.body)),
    trail.left && el('p', { className: 'quiet' }, `${trail.left} bytes of it were not kept.`),
    trail.input && el('h3', {}, 'What was read'), trail.input && el('pre', { tabIndex: 0, 'aria-label': 'the input as it was read' }, setOut(trail.input)),
    el('h2', {}, 'The answer'), ...fields('header fields', trail.answer),
  ].filter(Boolean));
}

const rows = (all) => el('table', {}, el('tbody', {}, ...all.map(([name, value]) => el('tr', {}, el('th', { scope: 'row' }, name), el('td', {}, value)))));

function fields(title, header) {
  const all = Object.entries(header ?? {}).sort(([a], [b]) => (a < b ? -1 : 1)).flatMap(([name, values]) => values.map((value) => [name, value]));
  return all.length ? [el('details', {}, el('summary', {}, `${all.length} ${title}`), rows(all))] : [];
}

function* failed({ status, code, title, detail, faults, causes, places }) {
  yield el('h2', {}, el('span', { className: 'mark' }, `${status || ''} ${code}`.trim()), ' ', title ?? '');
  if (detail) yield el('p', {}, detail);
  if (faults) yield rows(faults.map((f) => [[f.in, f.name, f.pointer].filter(Boolean).join(' '), f.detail]));
  if (causes?.length) {
    yield el('h3', {}, 'Its causes');
    yield rows(causes.map((c) => [c.type, c.message]));
  }
  if (places?.length) {
    yield el('h3', {}, 'Where');
    yield el('ul', {}, ...places.map((place) => el('li', {}, el('code', { title: place }, short(place)))));
  }
}

/** A place in the code without its folders. */
function short(place) {
  const [name, at] = [place.slice(0, place.lastIndexOf(' ')), place.slice(place.lastIndexOf(' ') + 1)];
  return `${name.split('/').at(-1)} ${at.split('/').slice(-2).join('/')}`;
}

function steps({ events, took, dropped }) {
  const all = [...events ?? []].sort((a, b) => a.at - b.at || a.depth - b.depth);
  return el('table', { className: 'steps' }, el('thead', {}, el('tr', {}, ...['At', 'Took', 'Step', 'What came of it'].map((text) => el('th', { scope: 'col' }, text)))),
    el('tbody', {}, ...all.map((e) => {
      const bar = el('span', { className: 'bar', 'aria-hidden': 'true' });
      bar.style.marginLeft = `${Math.min(98, 100 * e.at / (took || 1))}%`;
      bar.style.width = `${Math.max(1, Math.min(100, 100 * e.took / (took || 1)))}%`;
      const name = el('th', { scope: 'row' }, e.name ? el('span', { className: 'quiet' }, `${e.kind} `) : '', e.name || e.kind);
      name.style.paddingLeft = `${Math.min(e.depth, 16) * 0.45}rem`;
      return el('tr', { className: e.kind }, el('td', {}, milliseconds(e.at)), el('td', {}, e.goes ? 'goes on' : milliseconds(e.took), el('div', { className: 'bars' }, bar)), name, el('td', {}, ...outcome(e)));
    }), dropped ? el('tr', {}, el('td', { colSpan: 4 }, `${dropped} more were not kept`)) : ''));
}

function* outcome(e) {
  if (e.text) yield e.kind === 'statement' ? el('code', {}, e.text) : e.text;
  if (e.values) yield el('p', { className: 'quiet' }, e.values.join(e.kind === 'statement' ? ', ' : ' '));
  if (e.kind === 'statement' && !e.error) yield el('p', { className: 'quiet' }, e.rows < 0 ? 'rows: not known' : `${e.rows ?? 0} ${e.rows === 1 ? 'row' : 'rows'}`);
  if (e.error) yield el('p', { className: 'mark' }, e.error);
}

// Again

/** The request of a trail, as it can be sent; secrets are put into the places that are blank. */
function composed(trail, secret) {
  const put = (name, value) => (value.startsWith('Basic ') ? value.replace(blank, base64(secret)) : value.replace(blank, secret));
  const all = Object.entries(trail.header ?? {}).filter(([name]) => !byItself.test(name)).flatMap(([name, values]) => values.map((value) => [name, put(name, value)]));
  const text = trail.body || undefined;
  return { method: trail.method, target: trail.target, fields: all, cookies: [], withCookies: true, body: text === undefined ? undefined : { content: new Blob([text]), text } };
}

function* again(trail) {
  const blanked = Object.values(trail.header ?? {}).flat().some((value) => value.includes(blank));
  const whole = !trail.left, said = el('p', { role: 'status' }), test = el('div', { tabIndex: -1 });
  const token = el('input', { type: 'password', id: freshId(), autocomplete: 'off', spellcheck: false, className: 'wide', value: [...memory.credentials].find(([name, value]) => value && name[0] !== '$')?.[1] ?? '' });
  const button = el('button', { type: 'button', id: 'again', disabled: !whole, onclick: async () => {
    button.disabled = true;
    try {
      const answer = await send(composed(trail, token.value.trim()), new AbortController().signal, () => {});
      said.replaceChildren(el('span', { className: answer.status < 400 ? 'well' : 'mark' }, `${answer.status} ${answer.problem ? answer.value.code ?? '' : answer.text}`), ` after ${answer.milliseconds} ms. `, insideOf(answer) ?? '');
    } catch (e) {
      said.textContent = `It was not sent: ${e.message}`;
    }
    button.disabled = false;
  } }, 'Send again');
  const asTest = el('button', { type: 'button', disabled: !whole || !trail.status || trail.code === 'caller-left', onclick: async () => {
    const request = composed(trail, '$WICKETWAY_TOKEN');
    const text = await testOf({ page: trail.route?.replace(/[{}]/g, '') ?? trail.method, request, answer: { status: trail.status, problem: Boolean(trail.code), value: { code: trail.code } } });
    test.replaceChildren(el('p', {}, 'For a package in which the variable api is the API.'), el('pre', { tabIndex: 0, 'aria-label': 'a test in Go' }, text));
    test.focus();
  } }, 'As a test');
  const form = el('span');
  formOf(trail).then((address) => address && form.replaceChildren(el('a', { href: address }, 'Open it in its form')));
  if (blanked) yield el('p', {}, el('label', { htmlFor: token.id }, 'Token'), ' ', token, el('span', { className: 'quiet' }, ' in the place of what was blanked; sent to this API alone'));
  yield el('p', {}, button, ' ', asTest, ' ', form);
  if (!whole) yield el('p', { className: 'quiet' }, 'It cannot be sent again from here, since its body was not kept as a whole.');
  yield said;
  yield test;
  if (whole) yield el('details', { className: 'lines' }, el('summary', {}, 'As a line to paste'), el('pre', { tabIndex: 0, 'aria-label': 'a line for a shell' }, shellLine(composed(trail, '$WICKETWAY_TOKEN'), new Map())));
}

/** The page of the operation that a request is for, with its values; undefined where no contract has it. */
async function formOf(trail) {
  const root = new URL('..', import.meta.url).pathname;
  for (const key of document.getElementById('trails')?.dataset.keys.split(' ') ?? []) {
    const found = leadsTo(await operations(`${root}${key}/`), trail.method, trail.target, location.href);
    if (found) return `${root}${key}/${found.operation.page}#again=${trail.request || trail.number}`;
  }
  return undefined;
}

/** Fills a form in with the request of a trail. */
export async function fillAgain(trying, id) {
  const trail = await load(id);
  const kept = Object.entries(trail.header ?? {}).flatMap(([Name, values]) => values.map((Value) => ({ Name, Value }))).filter(({ Value }) => !Value.includes(blank));
  trying.fill({ target: trail.target, fields: kept, body: trail.left ? undefined : trail.body });
  trying.raiseAgain(kept.find(({ Name }) => /^wicketway-raise$/i.test(Name))?.Value);
  trying.changed();
}
