// The list of what was sent until the page is left: to send again, to show again, and to compare two answers.

import { hide } from './lines.js';
import { el, memory, setOut } from './page.js';

const most = 50, longest = 2000; // requests, and lines that are compared

export class Sent {
  /** Again opens the page of a request with its values, and sends it or shows its answer. */
  constructor(again) {
    this.again = again;
    this.list = el('ol', { reversed: true });
    this.difference = el('div', { tabIndex: -1 });
    this.compareTwo = el('button', { type: 'button', disabled: true, onclick: () => this.compare() }, 'Compare two');
    this.element = el('aside', { id: 'sent', 'aria-label': 'Sent so far', hidden: true }, el('h2', {}, 'Sent so far'), this.list, el('p', {}, this.compareTwo), this.difference);
    this.chosen = [];
  }

  add(record) {
    memory.sent.unshift(record);
    const line = `${record.request.method} ${record.request.target}`;
    const choose = el('input', { type: 'checkbox', 'aria-label': `compare ${line}`, onchange: () => this.choose(record, choose.checked) });
    record.choose = choose;
    record.element = el('li', {}, choose, ' ', el('code', {}, line), ' ',
      el('span', { className: record.answer.status < 400 ? 'well' : 'mark' }, String(record.answer.status)), el('span', { className: 'quiet' }, ` ${record.answer.milliseconds} ms, ${record.at.toLocaleTimeString()} `),
      el('button', { type: 'button', onclick: () => this.again(record, true), 'aria-label': `Send again ${line}` }, 'Send again'), ' ',
      el('button', { type: 'button', onclick: () => this.again(record, false), 'aria-label': `Show ${line}` }, 'Show'), ' ',
      el('button', { type: 'button', onclick: () => this.test(record), 'aria-label': `As a test: ${line}` }, 'As a test'));
    this.list.prepend(record.element);
    for (const old of memory.sent.splice(most)) {
      old.element.remove();
      this.choose(old, false);
    }
    this.element.hidden = false;
  }

  choose(record, is) {
    this.chosen = this.chosen.filter((one) => one !== record);
    if (is) this.chosen.push(record);
    if (this.chosen.length > 2) this.chosen.shift().choose.checked = false;
    this.compareTwo.disabled = this.chosen.length !== 2;
  }

  /** Shows a request and its answer as a test. */
  async test(record) {
    const text = await testOf(record);
    this.difference.replaceChildren(el('h3', {}, 'A test'), el('p', {}, 'For a package in which the variable api is the API.'), el('pre', { tabIndex: 0, 'aria-label': 'a test in Go' }, text));
    this.difference.focus();
  }

  /** Shows what two answers have otherwise, line by line. */
  compare() {
    const [older, newer] = [...this.chosen].sort((a, b) => a.at - b.at);
    const lines = differ(text(older.answer), text(newer.answer));
    const same = lines.every(([mark]) => mark === ' ');
    this.difference.replaceChildren(el('h3', {}, 'Compared'), el('p', {}, same ? 'The two answers are the same.' : 'Lines of the older answer alone begin with −, those of the newer one alone with +.'),
      el('pre', { tabIndex: 0, 'aria-label': 'the two answers compared' }, ...lines.map(([mark, line]) => el(mark === '+' ? 'ins' : mark === '−' ? 'del' : 'span', {}, `${mark} ${line}\n`))));
    this.difference.focus();
  }
}

/** What came of the request as a test in Go: the server writes it, as it does for those of wicketway probe. */
export async function testOf({ page, request, answer }) {
  if (request.body && request.body.text === undefined) return 'A form with files cannot be written as a test.';
  const response = await fetch(new URL('../test', import.meta.url), {
    method: 'POST', headers: { 'Content-Type': 'application/json' }, body: JSON.stringify({
      about: `${page} ${answer.status}`, method: request.method, target: hide(request.target, memory.credentials), body: request.body?.text,
      fields: request.fields.map(([Name, value]) => ({ Name, Value: hide(value, memory.credentials) })), status: answer.status, code: answer.problem ? answer.value.code : '',
    }),
  });
  return response.text();
}

/** An answer as lines: its status, its header fields but for those that differ each time, its body. */
function text(answer) {
  const header = answer.header.filter(([name]) => !['date', 'x-request-id'].includes(name)).map(([name, value]) => `${name}: ${value}`);
  return [`${answer.status} ${answer.text}`, ...header, '', ...(answer.isStream ? answer.items : setOut(answer.body).split('\n'))].slice(0, longest);
}

/** The longest common subsequence of two lists of lines, and what is beside it. */
export function differ(a, b) {
  let head = 0;
  while (head < a.length && head < b.length && a[head] === b[head]) head++;
  let tail = 0;
  while (tail < a.length - head && tail < b.length - head && a[a.length - 1 - tail] === b[b.length - 1 - tail]) tail++;
  const x = a.slice(head, a.length - tail), y = b.slice(head, b.length - tail);
  const width = y.length + 1, table = new Uint16Array((x.length + 1) * width);
  for (let i = x.length - 1; i >= 0; i--) {
    for (let j = y.length - 1; j >= 0; j--) {
      table[i * width + j] = x[i] === y[j] ? table[(i + 1) * width + j + 1] + 1 : Math.max(table[(i + 1) * width + j], table[i * width + j + 1]);
    }
  }
  const lines = a.slice(0, head).map((line) => [' ', line]);
  let i = 0, j = 0;
  while (i < x.length || j < y.length) {
    if (i < x.length && j < y.length && x[i] === y[j]) lines.push([' ', x[i]]), i++, j++;
    else if (i < x.length && (j === y.length || table[(i + 1) * width + j] >= table[i * width + j + 1])) lines.push(['−', x[i++]]);
    else lines.push(['+', y[j++]]);
  }
  return lines.concat(a.slice(a.length - tail).map((line) => [' ', line]));
}
