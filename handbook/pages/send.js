// Sends a request, and reads its answer as it comes.

import { parse } from './page.js';

const mostKept = 4 << 20; // bytes of an answer
const pause = 150; // milliseconds between two looks at an answer that goes on

/** Sends a request. Each is told of a stream as its items come. Throws where the browser does not send it. */
export async function send(request, signal, each) {
  const options = { method: request.method, signal, credentials: request.withCookies ? 'same-origin' : 'omit', cache: 'no-store', redirect: 'follow' };
  options.headers = new Headers(request.fields);
  if (request.body && !['GET', 'HEAD'].includes(request.method)) options.body = request.body.content;
  const address = new URL(request.target, location.origin);
  if (`${address.pathname}${address.search}` !== request.target) throw new Error(`a browser makes ${address.pathname}${address.search} of ${request.target}: segments that are dots are for other tools`);
  const kept = new Request(address, { ...options, signal: undefined, body: undefined });
  const lost = request.fields.filter(([name]) => !kept.headers.has(name)).map(([name]) => name);
  if (lost.length) throw new Error(`a browser lets no page send ${lost.join(', ')} (Fetch, forbidden request-header)`);
  for (const [name, value] of request.cookies) document.cookie = `${name}=${value.replace(/[;\u0000-\u001f]/g, encodeURIComponent)}; path=/; SameSite=Strict`;
  const began = performance.now();
  try {
    const response = await fetch(address, options);
    return await read(response, request, began, each, signal);
  } finally {
    for (const [name] of request.cookies) document.cookie = `${name}=; path=/; max-age=0`;
  }
}

async function read(response, request, began, each, signal) {
  const media = (response.headers.get('Content-Type') ?? '').split(';')[0].trim().toLowerCase();
  const answer = {
    status: response.status, text: response.statusText, header: [...response.headers], media, base: response.url, redirected: response.redirected,
    isStream: ['text/event-stream', 'application/x-ndjson'].includes(media), items: [], body: '', request, milliseconds: 0, size: 0,
  };
  const isText = /^text\/|json|xml|javascript|x-www-form-urlencoded|x-ndjson/.test(media) || !media;
  const pieces = [];
  const decoder = new TextDecoder();
  let size = 0, told = performance.now();
  try {
    const reader = response.body?.getReader();
    while (reader) {
      const { done, value } = await reader.read();
      if (done) break;
      answer.milliseconds ||= Math.round(performance.now() - began);
      if ((size += value.length) > mostKept) {
        answer.cut = true;
        await reader.cancel();
        break;
      }
      pieces.push(value);
      if (isText) answer.body += decoder.decode(value, { stream: true });
      answer.size = size;
      if (isText && performance.now() - told > pause) {
        told = performance.now();
        answer.items = itemsOf(answer);
        each(answer);
      }
    }
  } catch (e) {
    answer.stopped = signal.aborted;
    if (!answer.stopped) answer.broken = e.message;
  }
  answer.milliseconds ||= Math.round(performance.now() - began);
  answer.size = size;
  answer.items = itemsOf(answer);
  if (!isText) answer.blob = new Blob(pieces, { type: 'application/octet-stream' });
  answer.isJSON = /json/.test(media) && !answer.isStream;
  if (answer.isJSON) {
    try {
      answer.value = parse(answer.body);
    } catch {
      answer.isJSON = false;
    }
  }
  answer.problem = media === 'application/problem+json' && answer.isJSON;
  return answer;
}

/** The items of a stream that are complete. */
function itemsOf(answer) {
  if (!answer.isStream) return [];
  if (answer.media === 'application/x-ndjson') return answer.body.split('\n').slice(0, -1).filter(Boolean);
  return answer.body.split(/\r\n\r\n|\n\n|\r\r/).slice(0, -1).map((event) => event.split(/\r\n|\n|\r/).filter((line) => /^data:/.test(line)).map((line) => line.slice(5).trimStart()).join('\n')).filter(Boolean);
}
