// Fields to write values down in, made from nodes: each can be given, left out, or null where it has a name.

import { el, freshId, Literal, parse, setOut, write } from './page.js';

const given = 'given', absent = 'left out', none = 'null';
const other = 'another value …';
const isNumber = /^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$/;

/** One place of a request, with its name, its rules, and those below it. */
export class Field {
  constructor(node, changed) {
    this.node = node;
    this.changed = changed;
    this.id = freshId();
    this.below = []; // fields of members or items
    this.kind = kinds[node.options?.length ? 'options' : node.kind] ?? kinds.any;
    this.fault = el('p', { className: 'fault', id: `${this.id}-fault`, hidden: true });
    this.hint = el('p', { className: 'hint quiet', id: `${this.id}-hint` }, [['object', 'choice'].includes(node.kind) ? '' : node.type, node.rules, node.note].filter(Boolean).join(' · '));
    this.control = this.kind.make(this);
    this.input = this.control.matches('input, select, textarea') ? this.control : this.select ?? this.text;
    if (this.input) {
      this.input.id ||= this.id;
      this.input.setAttribute('aria-describedby', `${this.id}-hint ${this.id}-fault`);
    }
    this.state = node.name === undefined ? undefined : el('select', {
      className: 'state', 'aria-label': `${node.name}: given, left out or null`,
      onchange: () => { this.shown(); this.changed(); },
    }, ...[given, absent, none].map((text) => el('option', {}, text)));
    const label = el(this.input ? 'label' : 'span', { className: 'name', htmlFor: this.id }, node.name ?? '');
    if (node.required) label.append(' ', el('span', { className: 'mark' }, 'required'));
    if (node.in) label.append(' ', el('span', { className: 'quiet' }, node.in));
    this.element = el(this.input ? 'div' : 'fieldset', { className: 'field' }, this.input ? label : el('legend', {}, label),
      this.state, el('div', { className: 'control' }, this.control, this.hint, this.fault));
    this.read(undefined);
  }

  /** What is above shows whether the value goes out. */
  shown() {
    const goes = !this.state || this.state.value === given;
    this.element.classList.toggle('out', !goes);
    if (!this.input) this.control.hidden = !goes;
  }

  /** Somebody has written something, so it is given. */
  touched() {
    if (this.state && this.state.value !== given) this.state.value = given;
    this.shown();
    this.changed();
  }

  /** Takes a value that parse gave; undefined leaves the field out. */
  read(value) {
    if (this.state) this.state.value = value === undefined ? absent : value === null ? none : given;
    if (value !== undefined && (value !== null || !this.state)) this.kind.read(this, value);
    this.shown();
  }

  /** Begins a new one: what is required is given, to be filled in. */
  begin() {
    if (this.state) this.state.value = this.node.required ? given : absent;
    for (const f of this.below) f.begin();
    this.shown();
  }

  /** Gives the value; undefined where it is left out. */
  value() {
    if (this.state?.value === absent) return undefined;
    if (this.state?.value === none) return null;
    return this.kind.value(this);
  }

  /** Finds the field that a JSON Pointer (RFC 6901) leads to, or the last one on the way. */
  at(pointer) {
    let at = this;
    for (const step of pointer.split('/').slice(1).map((s) => s.replaceAll('~1', '/').replaceAll('~0', '~'))) {
      const next = at.kind.step(at, step);
      if (!next) break;
      at = next;
    }
    return at;
  }

  /** Says what is wrong with the value; "" takes that back. */
  say(text) {
    this.fault.textContent = [this.fault.textContent, text].filter(Boolean).join('; ');
    if (!text) this.fault.textContent = '';
    this.fault.hidden = !text;
    const marked = this.input ?? this.element;
    if (text) marked.setAttribute('aria-invalid', 'true');
    else marked.removeAttribute('aria-invalid');
  }

  /** This field and all below. */
  * all() {
    yield this;
    for (const f of this.below) yield* f.all();
  }

  focus() { (this.input ?? this.element.querySelector('input, select, textarea'))?.focus(); }
}

const plain = (value) => (value instanceof Literal ? value.text : typeof value === 'string' ? value : write(value));
const typed = (field, more = {}) => el('input', { type: 'text', autocomplete: 'off', spellcheck: false, oninput: () => field.touched(), ...more });
const leaf = { step: () => undefined };

/** Each kind makes an element, reads a value into it, gives it back, and finds the field of a step further. */
const kinds = {
  text: {
    ...leaf,
    make(field) {
      const form = { date: 'date', 'date-time': 'datetime-local' }[field.node.format];
      if (!form) return typed(field);
      const text = typed(field, { id: field.id });
      const pick = el('input', {
        type: form, step: 1, className: 'pick', 'aria-label': `choose ${field.node.name ?? 'a value'}`,
        onchange: () => { text.value = form === 'date' || !pick.value ? pick.value : new Date(pick.value).toISOString().replace('.000', ''); field.touched(); },
      });
      field.text = text;
      return el('div', { className: 'with' }, text, pick);
    },
    read(field, value) { (field.text ?? field.control).value = plain(value); },
    value: (field) => (field.text ?? field.control).value,
  },
  number: {
    ...leaf,
    make: (field) => typed(field, { inputMode: field.node.whole ? 'numeric' : 'decimal' }),
    read(field, value) { field.control.value = plain(value); },
    value: (field) => (isNumber.test(field.control.value) ? new Literal(field.control.value) : field.control.value),
  },
  truth: {
    ...leaf,
    make: (field) => el('select', { onchange: () => field.touched() }, el('option', {}, 'true'), el('option', {}, 'false')),
    read(field, value) { field.control.value = String(value); },
    value: (field) => field.control.value === 'true',
  },
  options: {
    ...leaf,
    make(field) {
      const text = typed(field, { hidden: true, 'aria-label': `${field.node.name ?? 'value'}: another value` });
      const select = el('select', {
        id: field.id,
        onchange: () => { text.hidden = select.value !== other; if (!text.hidden) text.focus(); field.touched(); },
      }, ...field.node.options.map((o) => el('option', {}, plain(fromPlain(o)))), el('option', {}, other));
      field.select = select;
      field.text = text;
      return el('div', { className: 'with' }, select, text);
    },
    read(field, value) {
      const text = plain(value);
      field.text.hidden = field.node.options.some((o) => plain(fromPlain(o)) === text);
      field.select.value = field.text.hidden ? text : other;
      field.text.value = field.text.hidden ? '' : text;
    },
    value(field) {
      const i = field.select.selectedIndex;
      return i < field.node.options.length ? fromPlain(field.node.options[i]) : field.text.value;
    },
  },
  file: {
    ...leaf,
    make: (field) => el('input', { type: 'file', multiple: false, onchange: () => field.touched() }),
    read() {}, // a page cannot choose one
    value: (field) => field.control.files[0] ?? '',
  },
  any: {
    ...leaf,
    make: (field) => el('textarea', { rows: 3, spellcheck: false, oninput: () => field.touched() }),
    read(field, value) { field.control.value = typeof value === 'string' && field.node.name !== undefined && field.node.in ? value : write(value, '', '  '); },
    value(field) {
      try {
        return parse(field.control.value);
      } catch {
        return field.control.value;
      }
    },
  },
  object: {
    make(field) {
      field.below = (field.node.members ?? []).map((node) => new Field(node, () => field.touched()));
      return el('div', { className: 'members' }, ...field.below.map((f) => f.element));
    },
    read(field, value) {
      const from = value && typeof value === 'object' && !(value instanceof Literal) && !Array.isArray(value) ? value : {};
      field.unknown = { ...from };
      for (const f of field.below) {
        f.read(Object.hasOwn(from, f.node.name) ? from[f.node.name] : undefined);
        delete field.unknown[f.node.name];
      }
    },
    value(field) {
      const value = {};
      for (const f of field.below) {
        const one = f.value();
        if (one !== undefined) put(value, f.node.name, one);
      }
      for (const [name, one] of Object.entries(field.unknown ?? {})) put(value, name, one);
      return value;
    },
    step: (field, name) => field.below.find((f) => f.node.name === name),
  },
  map: {
    make: (field) => rows(field, 'a member', true),
    read(field, value) {
      clear(field);
      for (const [name, one] of Object.entries(value && typeof value === 'object' && !(value instanceof Literal) ? value : {})) addRow(field, one, name);
    },
    value(field) {
      const value = {};
      for (const f of field.below) put(value, f.key.value, f.value());
      return value;
    },
    step: (field, name) => field.below.find((f) => f.key.value === name),
  },
  list: {
    make: (field) => rows(field, 'an item', false),
    read(field, value) {
      clear(field);
      for (const one of Array.isArray(value) ? value : [value]) addRow(field, one);
    },
    value: (field) => field.below.map((f) => f.value()),
    step: (field, name) => field.below[Number(name)],
  },
  choice: {
    make(field) {
      field.pick = el('select', {
        'aria-label': `${field.node.name ?? 'value'}: which of them`,
        onchange: () => { choose(field); field.touched(); },
      }, ...field.node.choices.map((c) => el('option', {}, c.type)));
      field.place = el('div');
      const whole = el('div', {}, field.pick, field.place);
      choose(field);
      return whole;
    },
    read(field, value) {
      field.pick.selectedIndex = Math.max(0, field.node.choices.findIndex((c) => fits(c, value)));
      choose(field);
      field.below[0].read(value);
    },
    value: (field) => field.below[0].value(),
    step: (field, name) => field.below[0].at(`/${name.replaceAll('~', '~0').replaceAll('/', '~1')}`),
  },
};

/** A value that came as plain JSON, as parse would give it. */
const fromPlain = (value) => (typeof value === 'number' ? new Literal(String(value)) : value);

/** Sets a member, whatever its name is. */
function put(object, name, value) {
  Object.defineProperty(object, name, { value, enumerable: true, configurable: true, writable: true });
}

function choose(field) {
  const one = new Field({ ...field.node.choices[field.pick.selectedIndex], name: undefined }, () => field.touched());
  one.begin();
  field.below = [one];
  field.place.replaceChildren(one.element);
}

/** Reports whether a value may be one of a node: by its type, and an object by the members that it has. */
function fits(node, value) {
  if (value === null) return Boolean(node.null);
  if (value instanceof Literal) return node.kind === 'number';
  if (Array.isArray(value)) return node.kind === 'list';
  if (typeof value === 'object') {
    const names = (node.members ?? []).map((m) => m.name);
    const constant = (node.members ?? []).every((m) => m.options?.length !== 1 || !Object.hasOwn(value, m.name) || m.options[0] === value[m.name]);
    return node.kind === 'map' || (node.kind === 'object' && constant && Object.keys(value).every((name) => names.includes(name)));
  }
  return { string: 'text', boolean: 'truth' }[typeof value] === node.kind;
}

function rows(field, what, named) {
  field.list = el('div', { className: 'members' });
  field.named = named;
  return el('div', {}, field.list, el('button', {
    type: 'button', onclick: () => { addRow(field, undefined).focus(); field.touched(); },
  }, `Add ${what}`));
}

function clear(field) {
  field.below = [];
  field.list.replaceChildren();
}

function addRow(field, value, name = '') {
  const one = new Field({ ...field.node.item, name: undefined }, () => field.touched());
  if (value === undefined) one.begin();
  else one.read(value);
  if (field.named) {
    one.key = el('input', { type: 'text', value: name, 'aria-label': 'name of the member', oninput: () => field.touched() });
    one.element.prepend(one.key);
  } else {
    one.input?.setAttribute('aria-label', `item ${field.below.length + 1} of ${field.node.name ?? 'the list'}`);
  }
  one.element.append(el('button', {
    type: 'button',
    onclick: () => { field.below.splice(field.below.indexOf(one), 1); one.element.remove(); field.touched(); },
  }, 'Take away'));
  field.below.push(one);
  field.list.append(one.element);
  return one;
}

/** A body in one media type: as fields, or as the text that goes out; they are kept in step. */
export class Body {
  constructor(of, changed) {
    this.of = of;
    this.changed = changed;
    this.isJSON = /^application\/json\b|\+json\b/.test(of.media) && !of.items;
    this.isForm = /^(application\/x-www-form-urlencoded|multipart\/form-data)\b/.test(of.media);
    this.text = el('textarea', { rows: 10, spellcheck: false, className: 'raw', 'aria-label': 'the body as text', oninput: () => { this.typed(); changed(); } });
    this.note = el('p', { className: 'quiet', role: 'status' });
    this.root = this.isJSON || this.isForm ? new Field({ ...of.schema, name: undefined }, () => { this.inStep(); changed(); }) : undefined;
    this.file = el('input', { type: 'file', 'aria-label': 'a file as the body', onchange: changed });
    this.asText = !this.root;
    const way = freshId();
    const pick = (text, isText) => el('label', {}, el('input', { type: 'radio', name: way, checked: isText === this.asText, onchange: () => this.show(isText) }), ` ${text}`);
    this.element = el('div', { className: 'body' },
      this.isJSON ? el('p', { className: 'ways', role: 'group', 'aria-label': 'how the body is written' }, pick('as fields', false), pick('as JSON', true)) : undefined,
      this.root?.element, this.isForm ? undefined : this.text, this.note, this.root ? undefined : this.file);
    this.show(this.asText);
  }

  show(asText) {
    this.asText = asText;
    if (this.root) this.root.element.hidden = asText;
    this.text.hidden = !asText;
    if (this.isJSON && !asText) this.note.textContent = '';
  }

  /** Somebody has written in the text. */
  typed() {
    if (!this.isJSON) return;
    try {
      this.root.read(parse(this.text.value));
      this.note.textContent = '';
    } catch (e) {
      this.note.textContent = `It is no JSON, and goes out as it is: ${e.message}`;
    }
  }

  inStep() {
    if (this.isJSON) this.text.value = write(this.root.value(), '', '  ');
  }

  /** Takes a text. */
  read(text) {
    this.text.value = this.isJSON ? setOut(text) : text;
    if (this.isJSON) this.typed();
    else if (this.isForm) this.root.read(parse(text));
  }

  /** Gives what goes out, and its text where it has one. */
  value() {
    if (this.isForm) {
      const multipart = this.of.media.startsWith('multipart');
      const form = multipart ? new FormData() : new URLSearchParams();
      for (const f of this.root.below) {
        for (const one of [f.value()].flat()) {
          if (one !== undefined && one !== null) form.append(f.node.name, one instanceof File ? one : plain(one));
        }
      }
      return { content: form, text: multipart ? undefined : form.toString(), form: multipart ? [...form] : undefined };
    }
    if (!this.root && this.file.files.length) return { content: this.file.files[0], file: this.file.files[0].name };
    const text = this.asText ? this.text.value : write(this.root.value());
    return { content: new Blob([text]), text };
  }
}
