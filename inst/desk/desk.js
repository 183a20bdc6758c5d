document.documentElement.lang = 'en';

// What is drawn anew keeps its focus, its open parts and where it was scrolled to.
const opened = new Map();
document.addEventListener('toggle', e => { if (e.target.id) opened.set(e.target.id, e.target.open); }, true);

function keepPlace(target) {
  const held = target.contains(document.activeElement) ? document.activeElement : null;
  const key = held && (held.dataset.node || held.id), byNode = held && held.dataset.node;
  const at = [...target.querySelectorAll('fieldset[id]')].map(e => [e.id, e.scrollTop]);
  let tries = 0;
  const restore = () => {
    target.querySelectorAll('details[id]').forEach(e => { if (opened.has(e.id)) e.open = opened.get(e.id); });
    at.forEach(([id, was]) => { const e = document.getElementById(id); if (e) e.scrollTop = was; });
    if (key && (!document.activeElement || document.activeElement === document.body)) {
      const again = byNode ? [...document.querySelectorAll('[data-node]')].find(e => e.dataset.node === key)
        : document.getElementById(key);
      if (again) again.focus({preventScroll: true});
    }
    target.querySelectorAll('.cutter').forEach(showCut);
    if (++tries < 4) requestAnimationFrame(restore);
  };
  Promise.resolve().then(restore);
}

// Arrows of the graph: the first node pressed is the cause, the next what it causes.
let cause = null;
function pressNode(node) {
  if (cause === null) {
    cause = node.dataset.node;
    node.setAttribute('aria-pressed', 'true');
    return;
  }
  const from = cause;
  forgetCause();
  if (from !== node.dataset.node) Shiny.setInputValue('arrow', {from: from, to: node.dataset.node}, {priority: 'event'});
}
function forgetCause() {
  cause = null;
  document.querySelectorAll('[data-node]').forEach(e => e.setAttribute('aria-pressed', 'false'));
}

// How many of each arm a cut keeps: counts in hundredths, added up.
function showCut(box) {
  const low = Number(box.querySelector('#cut_low').value), high = Number(box.querySelector('#cut_high').value);
  box.querySelector('.low').setAttribute('width', 800 * low);
  box.querySelector('.high').setAttribute('x', 800 * high);
  box.querySelector('.high').setAttribute('width', 800 * (1 - high));
  const words = ['treated', 'control'].map(arm => {
    const counts = box.dataset[arm].split(',').map(Number);
    const kept = counts.slice(Math.round(100 * low), Math.round(100 * high)).reduce((a, b) => a + b, 0);
    return kept.toLocaleString('en') + ' of ' + counts.reduce((a, b) => a + b, 0).toLocaleString('en') + ' ' + arm;
  });
  box.querySelector('.cut-words').textContent = low < high ?
    'Scores from ' + low + ' to ' + high + ': ' + words.join(' and ') + ' units stay.' : 'Nothing would be left.';
  box.querySelector('#cut_here').disabled = !(low < high);
}

document.addEventListener('DOMContentLoaded', () => {
  $(document).on('shiny:value', e => { if (e.target && e.target.querySelectorAll) keepPlace(e.target); });
  document.addEventListener('click', e => {
    const node = e.target.closest('[data-node]');
    if (node) pressNode(node);
    if (e.target.id === 'cut_here') {
      Shiny.setInputValue('cut_at', {low: document.getElementById('cut_low').value,
        high: document.getElementById('cut_high').value}, {priority: 'event'});
    }
  });
  document.addEventListener('keydown', e => {
    const node = e.target.closest && e.target.closest('[data-node]');
    if (e.key === 'Escape') forgetCause();
    if (!node) return;
    if (e.key === 'Enter' || e.key === ' ') { e.preventDefault(); pressNode(node); }
    if (e.key === 'Delete') Shiny.setInputValue('delete_node', node.dataset.node, {priority: 'event'});
  });
  document.addEventListener('input', e => {
    const box = e.target.classList.contains('cut') && e.target.closest('.cutter');
    if (box) showCut(box);
  });
});
