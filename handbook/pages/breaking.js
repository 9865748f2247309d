// The wrong requests of an operation, each with what must come back; and what can be raised on purpose in development.

import { el, freshId, memory } from './page.js';
import { send } from './send.js';
import { insideOf } from './trail.js';

/** The tokens that requests name, and the labels of the fields that they are typed in. */
const tokens = {
  $WICKETWAY_TOKEN_WITHOUT_SCOPES: 'Token of a caller without scopes',
  $WICKETWAY_OTHER_TOKEN: 'Token of another caller',
};

export class Breaking {
  /** Sent is told of each request that was sent by itself, or was answered otherwise than it must be. */
  constructor(trying, sent) {
    this.trying = trying;
    this.sent = sent;
    this.rows = trying.trial.wrong.map((request) => this.row(request));
    this.count = el('p', { role: 'status' });
    this.all = el('button', { type: 'button', onclick: () => this.sendAll() }, 'Send all');
    const needed = Object.keys(tokens).filter((token) => trying.trial.wrong.some((r) => r.fields?.some((f) => f.Value.includes(token))));
    this.element = el('details', { className: 'break' }, el('summary', {}, 'Break it'),
      el('p', { className: 'quiet' }, 'Requests with one fault each, made of the contract, and what must come back.'),
      ...needed.map((token) => {
        const id = freshId();
        return el('p', {}, el('label', { htmlFor: id }, tokens[token]), ' ', el('input', {
          id, type: 'password', autocomplete: 'off', className: 'wide', value: memory.credentials.get(token) ?? '', oninput: (e) => memory.credentials.set(token, e.target.value.trim()),
        }));
      }),
      el('table', {}, el('thead', {}, el('tr', {}, ...['What is wrong', 'Must come back', 'Came back', 'Send'].map((text) => el('th', { scope: 'col' }, text)))),
        el('tbody', {}, ...this.rows.map((r) => r.element))),
      el('p', {}, this.all), this.count);
  }

  row(request) {
    const came = el('td');
    const one = { request, came };
    one.element = el('tr', {}, el('th', { scope: 'row' }, request.wrong), el('td', {}, wanted(request)), came,
      el('td', {}, el('button', { type: 'button', 'aria-label': `Send: ${request.wrong}`, onclick: async () => this.sent(await this.sendOne(one)) }, 'Send')));
    return one;
  }

  async sendAll() {
    this.all.disabled = true;
    let differ = 0, skipped = 0;
    for (const one of this.rows) {
      const record = await this.sendOne(one);
      if (one.differs) {
        differ++;
        if (record) this.sent(record);
      }
      if (!record && !one.differs) skipped++;
    }
    const answered = this.rows.length - skipped;
    this.count.textContent = `${answered} sent, ${differ ? `${differ} otherwise than they must be` : 'all as they must be'}${skipped ? `; ${skipped} not sent, for lack of a token` : ''}`;
    this.all.disabled = false;
  }

  /** Sends one, marks what came back, and gives a record of it; undefined where it could not be sent. */
  async sendOne(one) {
    const { request } = one;
    one.differs = false;
    const fields = (request.fields ?? []).map(({ Name, Value }) => [Name, this.withTokens(Value)]);
    if (fields.some(([, value]) => value === undefined)) {
      one.came.textContent = 'not sent: a token is missing';
      return undefined;
    }
    const composed = {
      method: request.method, target: request.target, fields, cookies: [], withCookies: false,
      body: request.body === undefined ? undefined : { content: new Blob([request.body]), text: request.body },
    };
    try {
      const answer = await send(composed, new AbortController().signal, () => {});
      const code = answer.problem ? answer.value.code : undefined;
      one.differs = (answer.status !== request.status && answer.status !== request.or) || Boolean(request.code && code !== request.code);
      one.came.replaceChildren(`${answer.status}${code ? ` ${code}` : ''}${one.differs ? ', which differs' : ''} `, insideOf(answer) ?? '');
      one.came.className = one.differs ? 'mark' : 'well';
      return { at: new Date(), page: this.trying.trial.page, request: composed, answer, saved: undefined };
    } catch (e) {
      one.came.textContent = `not sent: ${e.message}`;
      return undefined;
    }
  }

  /** Puts the tokens into a value; undefined where one is missing. */
  withTokens(value) {
    for (const token of Object.keys(tokens)) {
      if (value.includes(token)) return memory.credentials.get(token) ? value.replace(token, memory.credentials.get(token)) : undefined;
    }
    if (!value.includes('$WICKETWAY_TOKEN')) return value;
    const own = this.trying.schemes.map((name) => memory.credentials.get(name)).find(Boolean);
    return own && value.replace('$WICKETWAY_TOKEN', own);
  }
}

const wanted = ({ status, or, code }) => `${or ? `${status} or ${or}` : status}${code ? ` ${code}` : ''}`;
