// The form of an operation: it takes the place of the tables of what is read, and sends requests by them.

import { base64, el, freshId, Literal, memory, decode, parse, templateOf, write } from './page.js';
import { Breaking } from './breaking.js';
import { Body, Field } from './form.js';
import { send } from './send.js';
import { show } from './answer.js';
import { goText, shellLine } from './lines.js';

const formatsFirst = ['text/event-stream', 'application/json', 'application/x-ndjson'];

export class Trying {
  /** Puts the form into a page. Sent is told of each request that has been answered. Raises are the codes of what can be
   * raised on purpose: none outside of development. */
  constructor(trial, place, sent, raises) {
    this.trial = trial;
    this.sent = sent;
    const changed = () => this.changed();
    this.inputs = trial.inputs.map((node) => new Field(node, changed));
    this.bodies = trial.bodies.map((of) => new Body(of, changed));
    this.media = el('select', { id: freshId(), onchange: () => { this.showBody(); this.changed(); } }, ...trial.bodies.map((b) => el('option', {}, b.media)));
    this.accept = el('select', { id: freshId(), onchange: changed }, ...[...trial.accepts].sort((a, b) => rank(a) - rank(b)).map((media) => el('option', {}, media)));
    this.way = el('select', { id: freshId(), onchange: () => { this.showWay(); this.changed(); } },
      ...trial.ways.map((names) => el('option', {}, names.join(' and '))), ...(trial.ways.length ? [el('option', {}, 'nothing')] : []));
    this.credentials = el('div', { className: 'credentials' });
    this.fields = new Map(); // by name in lower case
    this.fieldRows = el('tbody');
    this.cookies = el('input', { type: 'checkbox', checked: true, id: freshId(), onchange: changed });
    this.line = el('code');
    this.go = el('code');
    this.said = el('p', { className: 'said', role: 'status' });
    this.faults = el('div', { className: 'faults', role: 'alert' });
    this.answer = el('section', { className: 'answer', 'aria-label': 'Answer', tabIndex: -1 });
    this.button = el('button', { type: 'submit' }, 'Send');
    this.stop = el('button', { type: 'button', hidden: true, onclick: () => this.abort?.abort() }, 'Stop');
    const raised = raises.length ? ['nothing', ...raises, 'panic', 'slow=3s', 'lost=database'] : [];
    this.raise = el('select', { id: freshId(), onchange: changed }, ...raised.map((what) => el('option', {}, what)));
    this.breaking = trial.wrong.length ? new Breaking(this, sent) : undefined;
    this.examples = [trial.good, ...trial.examples];
    place.replaceChildren(...[this.form(), this.answer, this.breaking?.element].filter(Boolean));
    this.fill(trial.good);
    this.showBody();
    this.showWay();
    this.changed();
  }

  form() {
    const { trial } = this;
    const named = (label, control, ...more) => el('p', {}, el('label', { htmlFor: control.id }, label), ' ', control, ...more);
    const pick = el('select', { id: freshId(), onchange: () => { this.fill(trial.good); if (pick.selectedIndex) this.fill(this.examples[pick.selectedIndex]); this.changed(); } },
      ...this.examples.map((one, i) => el('option', {}, i ? one.name : 'a good one')));
    return el('form', { className: 'try', onsubmit: (e) => { e.preventDefault(); this.send(); } },
      el('h2', {}, 'Try it'),
      this.examples.length > 1 ? named('Filled in', pick) : undefined,
      ...this.inputs.map((f) => f.element),
      this.bodies.length ? el('h3', {}, 'The body') : undefined,
      this.bodies.length > 1 ? named('Media type', this.media) : undefined,
      ...this.bodies.map((b) => b.element),
      trial.ways.length ? el('h3', {}, 'Who calls') : undefined,
      trial.ways.length ? named('Known by', this.way, trial.signIn ? el('span', {}, ' A token comes from the ', el('a', { href: trial.signIn }, 'operation that gives one'), '.') : undefined) : undefined,
      this.credentials,
      this.raise.options.length ? named('Raise on purpose', this.raise, el('span', { className: 'quiet' }, ' in development: what comes back, and what the log says')) : undefined,
      el('details', { className: 'goes' }, el('summary', {}, 'Header fields that go out'),
        trial.accepts.length > 1 ? named('Accept', this.accept) : undefined,
        el('table', {}, el('thead', {}, el('tr', {}, ...['Sent', 'Name', 'Value'].map((text) => el('th', { scope: 'col' }, text)))), this.fieldRows),
        el('p', {}, el('button', { type: 'button', onclick: () => { this.addField('', '', true).name.focus(); } }, 'Add a field'), ' ',
          this.cookies, ' ', el('label', { htmlFor: this.cookies.id }, 'cookies of this site')),
        el('p', { className: 'quiet' }, 'The browser adds Host, User-Agent, Accept-Language, Cache-Control, Content-Length and fields that begin with Sec- by itself, and an Accept of */* where none is sent.')),
      el('details', { className: 'lines' }, el('summary', {}, 'The same as a line to paste, and as Go'),
        el('pre', { tabIndex: 0, 'aria-label': 'a line for a shell' }, this.line), el('pre', { tabIndex: 0, 'aria-label': 'Go' }, this.go)),
      el('p', { className: 'send' }, this.button, ' ', this.stop), this.said, this.faults);
  }

  /** Takes the values of an example, or of what was sent before. */
  fill(one) {
    if (one.target !== undefined) {
      const values = valuesOf(this.trial.path, one.target);
      for (const f of this.inputs) {
        const { in: place, name } = f.node;
        const header = one.fields?.find((field) => field.Name.toLowerCase() === name.toLowerCase())?.Value;
        f.read(place === 'header' ? header : fromText(f, values.getAll(`${place}.${name}`)));
      }
    }
    for (const [key, value] of Object.entries(one.values ?? {})) {
      this.inputs.find((f) => `${f.node.in} ${f.node.name}` === key)?.read(parse(JSON.stringify(value)));
    }
    if (one.body) for (const b of this.bodies) b.read(one.body);
  }

  /** Takes values out of the fragment of an address: path.lock=bell. */
  fillFrom(values) {
    for (const f of this.inputs) {
      const all = values.getAll(`${f.node.in}.${f.node.name}`);
      if (all.length) f.read(fromText(f, all));
      else if (f.node.in === 'query' && [...values.keys()].some((key) => key.startsWith('query.'))) f.read(undefined);
    }
    if (values.has('body')) for (const b of this.bodies) b.read(values.get('body'));
    this.changed();
  }

  /** Chooses what is raised on purpose; nothing where it is no choice here. */
  raiseAgain(what) {
    this.raise.selectedIndex = Math.max(0, [...this.raise.options].findIndex((o) => o.value === what));
  }

  get body() { return this.bodies[Math.max(0, this.media.selectedIndex)]; }

  showBody() {
    for (const b of this.bodies) b.element.hidden = b !== this.body;
  }

  /** The names of the schemes by which the caller is known. */
  get schemes() { return this.trial.ways[this.way.selectedIndex] ?? []; }

  showWay() {
    this.credentials.replaceChildren(...this.schemes.map((name) => {
      const scheme = this.trial.schemes[name] ?? {}, id = freshId();
      const label = scheme.type === 'apiKey' ? `Key (${scheme.in} ${scheme.name})` : scheme.scheme === 'basic' ? 'Name and password, with a colon between' : 'Token';
      return el('p', {}, el('label', { htmlFor: id }, label), ' ', el('input', {
        id, type: 'password', autocomplete: 'off', spellcheck: false, value: memory.credentials.get(name) ?? '', className: 'wide',
        oninput: (e) => { memory.credentials.set(name, e.target.value.trim()); this.changed(); },
      }), el('span', { className: 'quiet' }, ' kept until you leave these pages, and sent to this API alone'));
    }));
  }

  /** The header fields that the form makes, in their order. */
  composedFields() {
    const fields = [];
    if (this.trial.accepts.length) fields.push(['Accept', this.accept.value]);
    if (this.bodies.length && !this.multipart) fields.push(['Content-Type', this.body.of.media]);
    for (const name of this.schemes) {
      const value = memory.credentials.get(name), scheme = this.trial.schemes[name] ?? {};
      if (!value) continue;
      if (scheme.type === 'apiKey') {
        if (scheme.in === 'header') fields.push([scheme.name, value]);
      } else if (scheme.scheme === 'basic') fields.push(['Authorization', `Basic ${base64(value)}`]);
      else fields.push(['Authorization', `Bearer ${value}`]);
    }
    for (const f of this.inputs) {
      const value = f.node.in === 'header' ? f.value() : undefined;
      if (value !== undefined && value !== null) fields.push([f.node.name, textOf(value)]);
    }
    if (this.raise.selectedIndex > 0) fields.push(['Wicketway-Raise', this.raise.value]);
    return fields;
  }

  get multipart() { return this.body?.of.media.startsWith('multipart/'); }

  /** Shows what goes out: fields that somebody has written over stay what they are. */
  changed() {
    const now = new Map(this.composedFields().map(([name, value]) => [name.toLowerCase(), [name, value]]));
    for (const [key, row] of this.fields) {
      if (now.has(key)) {
        if (!row.edited) row.value.value = now.get(key)[1];
        now.delete(key);
      } else if (!row.own) {
        row.element.remove();
        this.fields.delete(key);
      }
    }
    for (const [name, value] of now.values()) this.addField(name, value, false);
    const composed = this.compose();
    this.line.textContent = shellLine(composed, memory.credentials);
    this.go.textContent = goText(composed, memory.credentials);
  }

  addField(name, value, own) {
    const row = { own, edited: false };
    row.on = el('input', { type: 'checkbox', checked: true, 'aria-label': `send ${name || 'the field'}`, onchange: () => this.changed() });
    row.name = el('input', { type: 'text', value: name, readOnly: !own, 'aria-label': 'name of the field', autocomplete: 'off', spellcheck: false, oninput: () => this.changed() });
    row.value = el('input', {
      type: /^authorization$/i.test(name) ? 'password' : 'text', value, 'aria-label': `value of ${name || 'the field'}`, autocomplete: 'off', spellcheck: false, className: 'wide',
      oninput: () => { row.edited = true; this.changed(); },
    });
    row.element = el('tr', {}, el('td', {}, row.on), el('td', {}, row.name), el('td', {}, row.value));
    this.fieldRows.append(row.element);
    this.fields.set(own ? freshId() : name.toLowerCase(), row);
    return row;
  }

  /** The request as it stands: its method, address, header fields and body. */
  compose() {
    const { trial } = this;
    const query = new URLSearchParams(), cookies = [];
    const values = {};
    for (const f of this.inputs) {
      const value = f.value(), { in: place, name } = f.node;
      if (place === 'path') values[name] = value === undefined || value === null ? '' : [value].flat().map(textOf).join(',');
      else if (value === undefined || place === 'header') continue;
      else if (place === 'query') for (const one of [value].flat()) query.append(name, textOf(one));
      else cookies.push([name, textOf(value)]);
    }
    for (const name of this.schemes) {
      const scheme = trial.schemes[name];
      if (scheme?.type === 'apiKey' && scheme.in === 'query' && memory.credentials.get(name)) query.append(scheme.name, memory.credentials.get(name));
    }
    const path = trial.path.replace(/\{(\+?)([^}]*)\}/g, (_, rest, name) => {
      const escaped = encodeURIComponent(values[name] ?? '');
      return rest ? escaped.replaceAll('%2F', '/') : escaped;
    });
    const target = path + (query.size ? `?${query}` : '');
    const fields = [...this.fields.values()].filter((row) => row.on.checked && row.name.value.trim()).map((row) => [row.name.value.trim(), row.value.value]);
    return { method: trial.method, target, fields, cookies, withCookies: this.cookies.checked, body: this.bodies.length ? this.body.value() : undefined, multipart: this.multipart };
  }

  /** Everything that was written down, so that it can be written down again. */
  save() {
    return {
      inputs: this.inputs.map((f) => f.value()), media: this.media.selectedIndex, accept: this.accept.selectedIndex, way: this.way.selectedIndex,
      bodies: this.bodies.map((b) => ({ asText: b.asText, text: b.asText || !b.root ? b.text.value : write(b.root.value()) })),
      fields: [...this.fields].map(([key, row]) => ({ key, own: row.own, edited: row.edited, on: row.on.checked, name: row.name.value, value: row.edited || row.own ? row.value.value : '' })),
      cookies: this.cookies.checked,
    };
  }

  load(saved) {
    saved.inputs.forEach((value, i) => this.inputs[i].read(value));
    [this.media.selectedIndex, this.accept.selectedIndex, this.way.selectedIndex, this.cookies.checked] = [saved.media, saved.accept, saved.way, saved.cookies];
    saved.bodies.forEach(({ asText, text }, i) => {
      this.bodies[i].read(text);
      if (asText) this.bodies[i].text.value = text;
      this.bodies[i].show(asText);
    });
    this.showBody();
    this.showWay();
    this.fields.clear();
    this.fieldRows.replaceChildren();
    this.changed();
    for (const one of saved.fields) {
      const row = one.own ? this.addField(one.name, one.value, true) : this.fields.get(one.key);
      if (!row) continue;
      row.on.checked = one.on;
      if (one.edited) [row.edited, row.value.value] = [true, one.value];
    }
    this.changed();
  }

  async send() {
    if (this.abort) return;
    for (const f of [...this.inputs, ...this.bodies.map((b) => b.root).filter(Boolean)]) for (const one of f.all()) one.say('');
    this.faults.replaceChildren();
    this.abort = new AbortController();
    [this.button.disabled, this.stop.hidden, this.said.textContent, this.said.className] = [true, false, 'Waiting for the answer …', 'said'];
    const request = this.compose(), saved = this.save();
    try {
      const answer = await send(request, this.abort.signal, (part) => {
        this.said.textContent = part.isStream ? `${part.items.length} items so far` : `${part.size} bytes so far`;
        show(this.answer, { ...part, goesOn: true }, this);
      });
      this.take(answer);
      const record = { at: new Date(), page: this.trial.page, saved, request, answer };
      this.said.textContent = `${answer.status} ${answer.text}, after ${answer.milliseconds} ms${answer.stopped ? ', stopped' : ''}`;
      this.said.className = 'said heard'; // the heading of the answer says it
      show(this.answer, answer, this);
      this.point(answer);
      this.sent(record);
    } catch (e) {
      this.answer.replaceChildren();
      this.said.textContent = e.name === 'AbortError' ? 'Stopped before an answer came.' : `It was not sent: ${e.message}`;
    } finally {
      [this.abort, this.button.disabled, this.stop.hidden] = [undefined, false, true];
    }
  }

  /** Sends a request as it was, without the form. */
  async sendAgain(record) {
    const answer = await send(record.request, new AbortController().signal, () => {});
    show(this.answer, answer, this);
    this.sent({ ...record, at: new Date(), answer });
  }

  /** Keeps a token that an answer gives (RFC 6749, 5.1). */
  take(answer) {
    const token = answer.value?.access_token;
    if (typeof token !== 'string' || answer.status >= 300) return;
    for (const [name, scheme] of Object.entries(this.trial.schemes)) {
      if (scheme.type === 'http' && scheme.scheme === 'bearer' || scheme.type === 'oauth2' || scheme.type === 'openIdConnect') memory.credentials.set(name, token);
    }
    answer.note = 'Its token is kept until you leave these pages, and goes out with the next requests.';
    this.showWay();
  }

  /** Says each fault that a problem points at at its field. */
  point(answer) {
    const errors = answer.problem ? answer.value?.errors : undefined;
    if (!Array.isArray(errors)) return;
    const list = el('ul');
    let first;
    for (const fault of errors) {
      const field = this.fieldOf(fault);
      const place = [fault.in, fault.name, fault.pointer].filter(Boolean).join(' ');
      field?.say(String(fault.detail ?? fault.rule ?? ''));
      first ??= field;
      list.append(el('li', {}, field ? el('a', { href: `#${(field.input ?? field.control).id || field.id}`, onclick: (e) => { e.preventDefault(); field.focus(); } }, place) : place, ` ${fault.detail ?? ''}`));
    }
    this.faults.replaceChildren(el('p', {}, `${errors.length} ${errors.length === 1 ? 'value is' : 'values are'} wrong:`), list);
    first?.focus();
  }

  fieldOf(fault) {
    if (fault.in && fault.in !== 'body') {
      const names = (name) => this.inputs.find((f) => f.node.in === fault.in && f.node.name.toLowerCase() === String(name).toLowerCase());
      const field = names(fault.name);
      if (field || !this.body?.isForm) return field;
    }
    const root = this.body?.root;
    if (!root || (this.body.asText && this.body.isJSON)) return undefined;
    if (this.body.isForm) return root.below.find((f) => f.node.name === fault.name);
    const found = root.at(String(fault.pointer ?? ''));
    return found === root && fault.pointer ? undefined : found;
  }
}

const rank = (media) => (formatsFirst.indexOf(media.split(';')[0]) + formatsFirst.length + 1) % (formatsFirst.length + 1);

const textOf = (value) => (value instanceof Literal ? value.text : typeof value === 'string' ? value : write(value));

/** The values of a parameter, which are texts, as its field reads them. */
function fromText(field, all) {
  if (!all.length) return undefined;
  return field.node.kind === 'list' ? all : all[0];
}

/** The values that a target has in the places of a template. */
function valuesOf(path, target) {
  const [escaped, query] = target.split('?');
  const { pattern, names } = templateOf(path);
  const found = pattern.exec(escaped) ?? [];
  const values = new URLSearchParams(names.map((name, i) => [`path.${name}`, decode(found[i + 1] ?? '')]));
  for (const [name, value] of new URLSearchParams(query)) values.append(`query.${name}`, value);
  return values;
}
