/** An answer that is an error: a problem (RFC 9457), or what else came instead. */
export class Problem extends Error {
  /**
   * @param {number} status
   * @param {Record<string, *>} members those of the problem; code tells kinds apart, errors lists the faults of an input
   */
  constructor(status, members) {
    super(members.detail || members.title || `the answer is ${status}`);
    this.name = 'Problem';
    this.status = status;
    this.code = members.code || '';
    this.errors = members.errors || [];
    this.members = members;
  }
}

/**
 * @typedef {{token?: () => (string|Promise<string>), headers?: Record<string, string>, fetch?: typeof fetch, signal?: AbortSignal}} Settings
 * token gives the token of the caller; it is asked again once an answer says that it has expired.
 */

// TYPES
/** Calls the API. */
export class Client {
  #address;
  #settings;
  #token;

  /**
   * @param {string} address where the API is; '' for where the page comes from
   * @param {Settings} [settings]
   */
  constructor(address, settings = {}) {
    this.#address = address.replace(/\/$/, '');
    this.#settings = settings;
  }

  // OPERATIONS
  /** Sends a request as an operation has it, and gives the answer; one that is an error becomes a Problem. */
  async request(o, input) {
    let path = o.path;
    const query = new URLSearchParams();
    const headers = new Headers({ Accept: o.accept, ...this.#settings.headers });
    for (const [name, value] of Object.entries(input)) {
      if (value === undefined || !Object.hasOwn(o.where, name)) continue;
      switch (o.where[name]) {
        case 'path': {
          const text = encodeURIComponent(value);
          if (text === '' || text === '.' || text === '..') throw new TypeError(`${name} cannot be ${JSON.stringify(value)}: the path would lead elsewhere`);
          path = path.replace(`{${name}}`, () => text);
          break;
        }
        case 'query':
          for (const one of [value].flat()) query.append(name, one);
          break;
        case 'header':
          headers.set(name, String(value));
      }
    }
    let body = input.body;
    if (body !== undefined && o.media) {
      const json = /^application\/(.+\+)?json/.test(o.media);
      if (json) body = JSON.stringify(body);
      else if (o.media.startsWith('application/x-www-form-urlencoded')) body = new URLSearchParams(body);
      if (!(body instanceof FormData) && !(body instanceof URLSearchParams)) headers.set('Content-Type', o.media);
    }
    const target = this.#address + path + (query.size ? `?${query}` : '');
    for (let again = false; ; again = true) {
      if (this.#settings.token && !o.open) {
        if (again || this.#token === undefined) this.#token = await this.#settings.token();
        headers.set('Authorization', `Bearer ${this.#token}`);
      }
      const answer = await (this.#settings.fetch || fetch)(target, { method: o.method, headers, body, signal: this.#settings.signal });
      if (answer.ok) return answer;
      const text = await answer.text();
      let members = { title: `the answer is ${answer.status}`, beginning: text.slice(0, 512) };
      if (/^application\/(.+\+)?json/.test(answer.headers.get('Content-Type') || '')) {
        try {
          members = JSON.parse(text);
        } catch { /* it is none */ }
      }
      if (members.code === 'token-expired' && !again && this.#settings.token && !o.open) continue;
      throw new Problem(answer.status, members);
    }
  }

  async value(o, input) {
    const answer = await this.request(o, input);
    const text = await answer.text();
    return text === '' ? undefined : JSON.parse(text);
  }

  content(o, input) { return this.request(o, input); }

  async *items(o, input) {
    const answer = await this.request(o, input);
    if ((answer.headers.get('Content-Type') || '').startsWith('application/json')) {
      yield* await answer.json();
      return;
    }
    const events = (answer.headers.get('Content-Type') || '').startsWith('text/event-stream');
    let rest = '';
    for await (const piece of answer.body.pipeThrough(new TextDecoderStream())) {
      const parts = (rest + piece).split(events ? /\r?\n\r?\n/ : /\r?\n/);
      rest = parts.pop();
      for (const part of parts) yield* this.#item(part, events);
    }
    if (!events) yield* this.#item(rest, events);
  }

  *#item(part, events) {
    if (!events) {
      if (part.trim()) yield JSON.parse(part);
      return;
    }
    const lines = part.split(/\r?\n/);
    const data = lines.filter((line) => line.startsWith('data:')).map((line) => line.slice(5).trimStart()).join('\n');
    if (!data) return;
    if (lines.some((line) => /^event: ?problem$/.test(line))) throw new Problem(500, JSON.parse(data));
    yield JSON.parse(data);
  }
}
