// Narrows the list of operations while somebody types, in files as well, where no server searches.
'use strict';
(() => {
  const prepare = () => {
    const list = document.querySelectorAll('li[data-words]');
    let input = document.getElementById('q');
    if (!input && list.length) {
      input = document.createElement('input');
      input.id = 'q';
      input.type = 'search';
      input.placeholder = 'path, member, code';
      const label = document.createElement('label');
      label.htmlFor = 'q';
      label.textContent = 'Find ';
      const form = document.createElement('form');
      form.setAttribute('role', 'search');
      form.append(label, input);
      form.addEventListener('submit', (e) => e.preventDefault());
      document.querySelector('header').append(form);
    }
    if (!input || !list.length || input.dataset.ready) return;
    input.dataset.ready = 'yes';
    const count = document.createElement('p');
    count.setAttribute('role', 'status');
    count.className = 'quiet';
    document.querySelector('main').prepend(count);
    input.addEventListener('input', () => {
      const words = input.value.toLowerCase().split(/\s+/).filter(Boolean);
      let left = 0;
      for (const one of list) {
        one.hidden = !words.every((word) => one.dataset.words.includes(word));
        left += one.hidden ? 0 : 1;
      }
      for (const area of document.querySelectorAll('main section')) area.hidden = !area.querySelector('li[data-words]:not([hidden])');
      count.textContent = words.length ? `${left} of ${list.length} operations` : '';
    });
  };
  prepare();
  addEventListener('turned', prepare);
})();
