// Shows an answer, and the requests that it leads to.

import { el, leadsTo, Literal, operations, setOut } from './page.js';
import { insideOf } from './trail.js';

const mostShown = 200_000, mostItems = 200;
let kept = ''; // the address of the bytes of the answer that is shown

/** Shows an answer in its place. */
export function show(place, answer, trying) {
  const title = el('h2', {}, el('span', { className: answer.status < 400 ? 'well' : 'mark' }, `${answer.status} ${answer.text}`), el('span', { className: 'quiet' }, ` after ${answer.milliseconds} ms`));
  const parts = [title];
  if (answer.redirected) parts.push(el('p', {}, `It comes from ${answer.base}, after a redirect.`));
  if (answer.note) parts.push(el('p', {}, answer.note));
  if (answer.broken) parts.push(el('p', { className: 'mark' }, `It ended before its end: ${answer.broken}`));
  if (answer.problem && answer.value.code) parts.push(el('p', {}, el('a', { href: `#${answer.value.code}` }, `${answer.value.code}: ${answer.value.title ?? ''}`)));
  const inside = insideOf(answer);
  if (inside) parts.push(el('p', {}, inside));
  const next = el('ul', { className: 'next' });
  parts.push(el('details', {}, el('summary', {}, `${answer.header.length} header fields`),
    el('table', {}, el('tbody', {}, ...answer.header.map(([name, value]) => el('tr', {}, el('th', { scope: 'row' }, name), el('td', {}, value)))))));
  const body = el('pre', { tabIndex: 0, 'aria-label': 'the body of the answer' });
  parts.push(body, next);
  place.replaceChildren(...parts);
  bodyOf(body, answer, undefined);
  if (!answer.goesOn) lead(place, body, next, answer, trying);
}

function bodyOf(body, answer, all) {
  if (answer.blob) {
    URL.revokeObjectURL(kept);
    const url = kept = URL.createObjectURL(answer.blob);
    body.replaceChildren(`${answer.size} bytes of ${answer.media}. `, el('a', { href: url, download: 'answer' }, 'Keep them as a file'));
  } else if (answer.isStream) {
    const skipped = Math.max(0, answer.items.length - mostItems);
    body.textContent = (skipped ? `… ${skipped} items before\n` : '') + answer.items.slice(skipped).join('\n');
    body.scrollTop = body.scrollHeight;
  } else if (answer.isJSON && answer.body.length <= mostShown) {
    try {
      body.replaceChildren(...pretty(answer.value, '', linker(answer, all)));
    } catch { // it is nested too deep
      body.textContent = answer.body;
    }
  } else {
    body.textContent = answer.isJSON ? setOut(answer.body).slice(0, mostShown) : answer.body.slice(0, mostShown);
  }
  if (answer.cut || answer.body.length > mostShown) body.append('\n… cut');
  if (!answer.size) body.textContent = 'no content';
}

/** Adds the links once it is known which operations there are. */
async function lead(place, body, next, answer, trying) {
  const here = new URL('.', location.href).pathname;
  const all = await operations(here);
  if (!place.contains(body)) return; // another answer is shown by now
  bodyOf(body, answer, all);
  for (const [text, found] of leads(answer, all, trying)) {
    next.append(el('li', {}, `${text}: `, el('a', { href: `${here}${found.operation.page}#${found.values}` }, `${found.operation.method} ${found.operation.path}`), ` ${found.operation.summary}`));
  }
  if (next.childElementCount) next.before(el('h3', {}, 'What comes next'));
}

/** What an answer leads to: by Location, by Link (RFC 8288), and by the links of the contract. */
function* leads(answer, all, trying) {
  const field = (name) => answer.header.find(([n]) => n === name)?.[1];
  const location = field('location') && leadsTo(all, 'GET', field('location'), answer.base);
  if (location) {
    yield ['its Location', location];
    for (const o of all) { // what else can be done with it
      if (o.path === location.operation.path && o.method !== 'GET') yield ['the same', { operation: o, values: location.values }];
    }
  }
  for (const [, target, parameters] of (field('link') ?? '').matchAll(/<([^>]*)>((?:\s*;\s*[^=;,\s]+\s*=\s*(?:"[^"]*"|[^;,"\s]*))*)/g)) {
    const found = leadsTo(all, 'GET', target, answer.base);
    if (found) yield [/rel\s*=\s*"?([^";]*)/.exec(parameters)?.[1] ?? 'related', found];
  }
  for (const link of trying.trial.links) {
    const operation = all.find((o) => o.page === link.page);
    if (!operation || link.status !== String(answer.status)) continue;
    const values = new URLSearchParams();
    for (const [name, expression] of Object.entries(link.values ?? {})) {
      const value = valueOf(expression, answer, trying);
      const place = operation.names.includes(name.replace(/^path\./, '')) ? 'path' : 'query';
      if (value !== undefined) values.append(/^(path|query|header|cookie)\./.test(name) ? name : `${place}.${name}`, value);
    }
    if (values.size) yield [link.name, { operation, values }];
  }
}

/** The value of a runtime expression (OpenAPI, 4.8.20.4). */
function valueOf(expression, answer, trying) {
  if (typeof expression !== 'string' || !expression.startsWith('$')) return typeof expression === 'object' ? JSON.stringify(expression) : expression;
  const [, from, kind, name] = /^\$(response|request)\.(header|query|path|body)[.#]?(.*)$/.exec(expression) ?? [];
  if (kind === 'header' && from === 'response') return answer.header.find(([n]) => n === name.toLowerCase())?.[1];
  if (kind === 'path') return plainOf(trying.inputs.find((f) => f.node.in === 'path' && f.node.name === name)?.value());
  if (kind === 'query') return new URL(answer.request.target, location.origin).searchParams.get(name) ?? undefined;
  if (kind !== 'body' || from !== 'response') return undefined;
  let value = answer.value;
  for (const step of name.split('/').slice(1)) value = value?.[step.replaceAll('~1', '/').replaceAll('~0', '~')];
  return plainOf(value);
}

const plainOf = (value) => (value instanceof Literal ? value.text : value === undefined || typeof value === 'object' ? undefined : String(value));

/** Says where the values of an answer lead: addresses to their operations, names of things to those that read them. */
function linker(answer, all) {
  const here = new URL('.', location.href).pathname;
  const path = new URL(answer.base || answer.request.target, location.origin).pathname.replace(/\/$/, '');
  return (name, text) => {
    if (!all) return undefined;
    let found = /^(\/|https?:\/\/)/.test(text) ? leadsTo(all, 'GET', text, answer.base) : undefined;
    if (!found && name !== undefined && text !== '' && text !== '.' && text !== '..') {
      found = leadsTo(all.filter((o) => o.names.at(-1) === name), 'GET', `${path}/${encodeURIComponent(text)}`, answer.base);
    }
    return found && `${here}${found.operation.page}#${found.values}`;
  };
}

/** JSON that is set out, with links in it. */
function* pretty(value, indent, linkTo, name) {
  const inner = `${indent}  `;
  const scalar = value instanceof Literal ? value.text : JSON.stringify(value);
  if (value && typeof value === 'object' && !(value instanceof Literal)) {
    const isList = Array.isArray(value), entries = Object.entries(value);
    if (!entries.length) {
      yield isList ? '[]' : '{}';
      return;
    }
    yield isList ? '[' : '{';
    for (const [i, [key, one]] of entries.entries()) {
      yield `${i ? ',' : ''}\n${inner}${isList ? '' : `${JSON.stringify(key)}: `}`;
      yield* pretty(one, inner, linkTo, isList ? name : key);
    }
    yield `\n${indent}${isList ? ']' : '}'}`;
    return;
  }
  const to = value === null || typeof value === 'boolean' ? undefined : linkTo(name, value instanceof Literal ? value.text : value);
  yield to ? el('a', { href: to }, scalar) : scalar;
}
