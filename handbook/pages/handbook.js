// Turns pages without leaving them, so that tokens and the list of what was sent can stay in memory; and puts the form into
// pages of operations.

import { Sent } from './sent.js';
import { show } from './answer.js';
import { fillAgain, openTrails } from './trail.js';
import { Trying } from './trying.js';

const root = new URL('..', import.meta.url).pathname;
let shown = location.pathname + location.search;
let trying;
let close; // the trails that are open

const sent = new Sent(async (record, again) => {
  if (trying?.trial.page !== record.page || !location.pathname.endsWith(`/${record.page}`)) await turn(new URL(record.address), true);
  if (!trying) return;
  if (record.saved) trying.load(record.saved);
  if (again && record.saved) await trying.send();
  else if (again) await trying.sendAgain(record);
  else show(trying.answer, record.answer, trying);
  trying.answer.focus();
});

/** Makes what is on the page ready. */
function ready() {
  trying = undefined;
  openAgain();
  const trial = document.getElementById('trial');
  if (trial) {
    const address = location.href.split('#')[0];
    trying = new Trying(JSON.parse(trial.textContent), document.getElementById('reads'), (record) => record && sent.add({ ...record, address }),
      (trial.dataset.raises ?? '').split(' ').filter(Boolean));
  }
  fragment();
}

/** Opens the trails that are on the page, and closes those before. */
function openAgain() {
  close?.();
  const trails = document.getElementById('trails');
  close = trails ? openTrails(trails) : undefined;
}

/** A fragment has values for the form, or is a place on the page. */
function fragment() {
  const text = location.hash.slice(1);
  if (trying && text.startsWith('again=')) fillAgain(trying, decodeURIComponent(text.slice(6))).catch((e) => { trying.said.textContent = e.message; });
  else if (trying && text.includes('=')) trying.fillFrom(new URLSearchParams(text));
  else if (text) open(decodeURIComponent(text));
}

function open(id) {
  const place = document.getElementById(id);
  if (place?.tagName === 'DETAILS') place.open = true;
  place?.scrollIntoView();
}

/** Shows another page in the place of this one. */
async function turn(url, isNew) {
  const response = await fetch(url, { headers: { Accept: 'text/html' } }).catch(() => undefined);
  if (!response?.ok || !response.headers.get('Content-Type')?.startsWith('text/html') || !new URL(response.url).pathname.startsWith(root.slice(0, -1))) {
    location.assign(url);
    return;
  }
  const page = new DOMParser().parseFromString(await response.text(), 'text/html');
  const to = new URL(response.url);
  to.hash = url.hash;
  if (isNew) history.pushState(null, '', to);
  shown = location.pathname + location.search;
  document.title = page.title;
  for (const part of ['header', 'main']) {
    const fresh = page.querySelector(part);
    if (fresh) document.querySelector(part).replaceWith(document.adoptNode(fresh));
  }
  ready();
  dispatchEvent(new Event('turned'));
  if (!to.hash || to.hash.includes('=')) scrollTo(0, 0);
  document.querySelector('main').focus({ preventScroll: true });
}

document.addEventListener('click', (e) => {
  const link = e.target.closest?.('a[href]');
  if (!link || e.defaultPrevented || e.button || e.metaKey || e.ctrlKey || e.shiftKey || e.altKey || link.target || link.hasAttribute('download')) return;
  const url = new URL(link.href);
  if (url.origin !== location.origin || !`${url.pathname}/`.startsWith(root) || url.pathname.startsWith(`${root}assets/`)) return;
  if (url.pathname + url.search === shown && url.hash) {
    if (!url.hash.includes('=')) open(decodeURIComponent(url.hash.slice(1)));
    return;
  }
  e.preventDefault();
  turn(url, true);
});

document.addEventListener('submit', (e) => {
  if (!e.target.matches('form[role=search]')) return;
  e.preventDefault();
  const url = new URL(e.target.action);
  url.search = new URLSearchParams(new FormData(e.target));
  turn(url, true);
});

addEventListener('popstate', () => {
  if (location.pathname + location.search === shown) fragment();
  else turn(new URL(location), false);
});

// A page that is kept for the way back would hold its connection.
addEventListener('pagehide', () => close?.());
addEventListener('pageshow', (e) => e.persisted && openAgain());

document.body.append(sent.element);
ready();
