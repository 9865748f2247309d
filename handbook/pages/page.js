// What the other modules share: elements, JSON that keeps its numbers, and what is known until the page is left.

/** What is remembered until the page is left: tokens are nowhere else. */
export const memory = { credentials: new Map(), sent: [], operations: new Map() };

/** An element with properties and children; texts among them stay texts. */
export function el(name, properties = {}, ...children) {
  const e = document.createElement(name);
  for (const [key, value] of Object.entries(properties)) {
    if (key.startsWith('on')) e.addEventListener(key.slice(2), value);
    else if (key in e && !key.includes('-')) e[key] = value;
    else if (value !== undefined && value !== false) e.setAttribute(key, value);
  }
  e.append(...children.filter((c) => c !== undefined && c !== null));
  return e;
}

let ids = 0;
/** A name for an element that others refer to. */
export const freshId = () => `f${++ids}`;

/** A number as it was written: a double would lose digits of a large one. */
export class Literal {
  constructor(text) { this.text = text; }
}

/** Reads JSON; throws a SyntaxError where it is none. */
export function parse(text) {
  return JSON.parse(text, (_, value, context) => (typeof value === 'number' ? new Literal(context?.source ?? String(value)) : value));
}

/** Writes a value as JSON, on one line or set out. */
export function write(value, indent = '', step = '') {
  const inner = indent + step, lines = step ? `\n${inner}` : '', end = step ? `\n${indent}` : '';
  if (value instanceof Literal) return value.text;
  if (Array.isArray(value)) return value.length ? `[${lines}${value.map((v) => write(v, inner, step)).join(`,${lines}`)}${end}]` : '[]';
  if (value && typeof value === 'object') {
    const members = Object.entries(value).map(([name, v]) => `${JSON.stringify(name)}:${step ? ' ' : ''}${write(v, inner, step)}`);
    return members.length ? `{${lines}${members.join(`,${lines}`)}${end}}` : '{}';
  }
  return JSON.stringify(value);
}

/** Sets JSON out to be read; any other text stays as it is. */
export function setOut(text) {
  try {
    return write(parse(text), '', '  ');
  } catch {
    return text;
  }
}

/** A text in the base64 of its UTF-8 (RFC 7617, 2.1). */
export const base64 = (text) => btoa(String.fromCharCode(...new TextEncoder().encode(text)));

/** The operations of a version, by the address of its pages. */
export async function operations(here) {
  if (!memory.operations.has(here)) {
    const answer = await fetch(`${here}operations.json`);
    const all = answer.ok ? await answer.json() : [];
    memory.operations.set(here, all.map((o) => ({ ...o, ...templateOf(o.path) })));
  }
  return memory.operations.get(here);
}

/** What a path template matches, and the names of its parameters (RFC 6570). */
export function templateOf(template) {
  const names = [];
  const pattern = template.replace(/\{(\+?)([^}]*)\}|[.*+?^${}()|[\]\\]/g, (found, rest, name) => {
    if (name === undefined) return `\\${found}`;
    names.push(name);
    return rest ? '(.+)' : '([^/]+?)';
  });
  return { pattern: new RegExp(`^${pattern}$`), names };
}

/** The operation that a method and an address lead to, with its values; undefined where none of the version does. */
export function leadsTo(all, method, address, base) {
  let url;
  try {
    url = new URL(address, base);
  } catch {
    return undefined;
  }
  if (url.origin !== location.origin) return undefined;
  let best;
  for (const o of all) {
    const found = o.method === method && o.pattern.exec(url.pathname);
    if (!found || (best && best.operation.names.length <= o.names.length)) continue;
    best = { operation: o, values: new URLSearchParams(o.names.map((name, i) => [`path.${name}`, decode(found[i + 1])])) };
  }
  if (best) for (const [name, value] of url.searchParams) best.values.append(`query.${name}`, value);
  return best;
}

/** Takes percent-encoding away, where it is one. */
export function decode(text) {
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}
