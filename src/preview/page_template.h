// What stands around the finds on the page. Whatever comes from the medium is shown as text only.
#pragma once

#include <string_view>

namespace dredger::preview {

inline constexpr std::string_view kPageStart = R"html(<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src 'self' file: data:; media-src 'self' file:; frame-src 'self' file:; style-src 'unsafe-inline'; script-src 'unsafe-inline'; base-uri 'none'; form-action 'none'">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>Finds</title>
<style>
:root { --ground: #efece5; --paper: #ffffff; --ink: #2b2a28; --pale: #6f6a61; --line: #d8d3c8; --sea: #1f6f8b; }
* { box-sizing: border-box; }
body { margin: 0; font: 14px/1.45 system-ui, sans-serif; color: var(--ink); background: var(--ground); }
header { position: sticky; top: 0; z-index: 1; padding: 8px 14px; background: var(--paper); border-bottom: 1px solid var(--line);
  display: flex; flex-wrap: wrap; gap: 6px; align-items: center; }
input, select, button { font: inherit; font-size: 13px; padding: 4px 6px; border: 1px solid var(--line); border-radius: 5px; background: #fff; color: inherit; }
input[type=search] { width: 124px; }
select { max-width: 99px; }
button { cursor: pointer; }
button.main { background: var(--sea); border-color: #14536a; color: #fff; font-weight: 600; padding: 5px 12px; box-shadow: 0 1px 2px #0003; }
button.main:disabled { background: #a9c3cc; border-color: #a9c3cc; color: #fff; box-shadow: none; cursor: default; }
#count { color: var(--pale); font-size: 13px; margin-left: auto; white-space: nowrap; }
#stopped { padding: 8px 16px; background: #f7e3dc; color: #7a2a12; }
#grid { display: grid; grid-template-columns: repeat(auto-fill, minmax(230px, 1fr)); gap: 12px; padding: 16px; }
.card { background: var(--paper); border: 1px solid var(--line); border-radius: 6px; padding: 8px; display: flex; flex-direction: column; gap: 4px; }
.card.picked, tr.picked { outline: 2px solid var(--sea); }
.card:focus-visible, tr:focus-visible { outline: 3px solid #e0a72e; }
.card details { font-size: 12px; color: var(--pale); }
.card details pre { white-space: pre-wrap; overflow-wrap: anywhere; max-height: 190px; overflow: auto; margin: 4px 0 0; font: 12px/1.4 ui-monospace, monospace; color: var(--ink); }
.view { height: 168px; display: flex; align-items: center; justify-content: center; background: #f7f5f0; border-radius: 4px; overflow: hidden; }
.view img { max-width: 100%; max-height: 100%; }
.view span { color: var(--pale); font-size: 20px; }
.name { font-weight: 600; overflow-wrap: anywhere; display: flex; gap: 6px; align-items: baseline; }
.pale { color: var(--pale); font-size: 12px; overflow-wrap: anywhere; }
.meter { height: 6px; border-radius: 3px; background: #e6e1d6; overflow: hidden; }
.meter i { display: block; height: 100%; }
.sound { background: var(--sound); } .patchy { background: var(--patchy); } .faint { background: var(--faint); } .gone { background: var(--gone); }
audio { width: 100%; height: 30px; }
table { border-collapse: collapse; width: 100%; background: var(--paper); }
th, td { text-align: left; padding: 5px 10px; border-bottom: 1px solid var(--line); vertical-align: top; overflow-wrap: anywhere; }
iframe.message { width: 100%; height: 62vh; border: 1px solid var(--line); background: #fff; }
td.number { text-align: right; white-space: nowrap; }
#list { padding: 16px; }
dialog { border: 1px solid var(--line); border-radius: 8px; max-width: min(1060px, 94vw); padding: 16px; }
dialog .tools { display: flex; gap: 8px; align-items: center; position: sticky; top: -16px; background: #fff; padding: 6px 0; }
dialog .tools button:first-of-type { margin-left: auto; }
dialog img { max-width: 100%; display: block; margin: 8px auto; }
dialog pre { white-space: pre-wrap; overflow-wrap: anywhere; background: #f7f5f0; padding: 10px; max-height: 46vh; overflow: auto; }
[hidden] { display: none !important; }
</style>
</head>
<body>
<header>
<input type="search" id="name" placeholder="name contains" aria-label="Name contains">
<select id="kind" aria-label="Kind"><option value="">any kind</option></select>
<select id="folder" aria-label="Folder"><option value="">any folder</option></select>
<select id="state" aria-label="State"><option value="">any state</option></select>
<select id="volume" aria-label="Volume"><option value="">any volume</option></select>
<select id="band" aria-label="Band"><option value="">any band</option><option>sound</option><option>patchy</option><option>faint</option><option>gone</option></select>
<select id="sort" aria-label="Order"><option value="prospect">best first</option><option value="name">by name</option><option value="path">by folder</option><option value="modified">by date</option><option value="deleted">last deleted</option><option value="size">by size</option><option value="alike">alike side by side</option></select>
<button id="form">table</button>
<button id="tick">tick all</button>
<button id="save" class="main" disabled>Download picks</button>
<span id="count"></span>
</header>
<div id="stopped" role="alert" hidden></div>
<main><div id="grid"></div><div id="list" hidden></div></main>
<dialog id="more"></dialog>
<script type="application/json" id="finds">)html";

inline constexpr std::string_view kPageEnd = R"html(</script>
<script>
'use strict';
const { catalog, uuid, looked_at, finds } = JSON.parse(document.getElementById('finds').textContent);
const at = id => document.getElementById(id);
const picked = new Set();
// A page that is made anew keeps its ticks, where the browser lets a file remember anything.
const kept = 'dredger ticks ' + uuid;
try {
  for (const id of JSON.parse(localStorage.getItem(kept) || '[]')) if (finds.some(f => f.id === id)) picked.add(id);
} catch { /* then it doesn't */ }
function keep() { try { localStorage.setItem(kept, JSON.stringify([...picked])); } catch { /* as above */ } }
let asTable = false;

function make(tag, className, text) {
  const element = document.createElement(tag);
  if (className) element.className = className;
  if (text !== undefined) element.textContent = text;
  return element;
}
function option(list, value) { list.append(new Option(value === '' ? '(top folder)' : value, value || '/')); }
function sizeText(bytes) {
  for (const unit of ['B', 'KiB', 'MiB', 'GiB']) {
    if (bytes < 1024 || unit === 'GiB') return (unit === 'B' ? bytes : bytes.toFixed(1)) + ' ' + unit;
    bytes /= 1024;
  }
}
function folderOf(find) { const slash = find.path.lastIndexOf('/'); return slash < 0 ? '' : find.path.slice(0, slash); }

for (const kind of [...new Set(finds.map(f => f.kind))].sort()) at('kind').append(new Option(kind));
for (const folder of [...new Set(finds.map(folderOf))].sort()) option(at('folder'), folder);
for (const id of ['state', 'volume']) {
  const words = [...new Set(finds.map(f => f[id]))].filter(w => w).sort();
  for (const word of words) at(id).append(new Option(word));
  at(id).hidden = words.length < 2;
}
if (looked_at < finds.length) {
  at('stopped').hidden = false;
  at('stopped').textContent = 'Interrupted: only ' + looked_at + ' of ' + finds.length +
    ' finds were looked at; the others have no picture here. Make the page again to see all.';
}

function distance(a, b) {
  let bits = BigInt('0x' + a) ^ BigInt('0x' + b), count = 0;
  for (; bits; bits &= bits - 1n) ++count;
  return count;
}
// A walk from each picture to the one most like it.
function alike(list) {
  const left = list.filter(f => f.likeness), walk = [];
  let last = left.shift();
  while (last) {
    walk.push(last);
    let best = -1, least = 65;
    left.forEach((f, i) => { const d = distance(last.likeness, f.likeness); if (d < least) { least = d; best = i; } });
    last = best < 0 ? undefined : left.splice(best, 1)[0];
  }
  return walk.concat(list.filter(f => !f.likeness));
}
function shown() {
  const name = at('name').value.toLowerCase(), kind = at('kind').value, band = at('band').value, folder = at('folder').value;
  const state = at('state').value, volume = at('volume').value;
  const list = finds.filter(f => (!state || f.state === state) && (!volume || f.volume === volume) && (!name || f.path.toLowerCase().includes(name)) && (!kind || f.kind === kind) &&
    (!band || f.band === band) && (!folder || (folderOf(f) || '/') === folder || folderOf(f).startsWith(folder + '/')));
  const order = at('sort').value;
  if (order === 'alike') return alike(list);
  const by = { prospect: (a, b) => b.prospect - a.prospect, name: (a, b) => a.name.localeCompare(b.name),
    path: (a, b) => a.path.localeCompare(b.path), modified: (a, b) => (a.modified || '~').localeCompare(b.modified || '~'),
    deleted: (a, b) => (b.deleted || '').localeCompare(a.deleted || ''), size: (a, b) => b.size - a.size };
  return list.sort((a, b) => by[order](a, b) || a.id - b.id);
}
function pick(find, isPicked) {
  isPicked ? picked.add(find.id) : picked.delete(find.id);
  for (const element of document.querySelectorAll('[data-find="' + find.id + '"]')) {
    element.classList.toggle('picked', isPicked);
    element.querySelector('input[type=checkbox]').checked = isPicked;
  }
  keep();
  tell();
}
function box(find, around) {
  const tick = make('input');
  tick.type = 'checkbox';
  tick.tabIndex = -1;
  tick.checked = picked.has(find.id);
  tick.setAttribute('aria-label', 'Pick ' + find.name);
  around.dataset.find = find.id;
  around.tabIndex = 0;
  around.classList.toggle('picked', tick.checked);
  tick.addEventListener('change', () => pick(find, tick.checked));
  return tick;
}
function meter(find) {
  const bar = make('div', 'meter'), fill = make('i', find.band);
  fill.style.width = find.prospect + '%';
  bar.append(fill);
  return bar;
}
function card(find) {
  const element = make('div', 'card'), view = make('div', 'view'), name = make('label', 'name');
  if (find.picture) {
    const image = make('img');
    image.src = 'tiles/' + find.id + '.png';
    image.alt = '';
    image.loading = 'lazy';
    view.append(image);
  } else view.append(make('span', '', find.format || find.kind));
  view.addEventListener('click', () => open(find));
  name.append(box(find, element), make('span', '', find.name));
  element.append(view, name, make('div', 'pale', folderOf(find)),
    make('div', 'pale', [find.id, sizeText(find.size), (find.modified || 'no date').slice(0, 10)].join(' · ')),
    make('div', 'pale', [find.deleted ? find.state + ' ' + find.deleted.slice(0, 10) : find.state, find.volume,
      find.copies > 1 ? find.copies + ' copies' : ''].filter(w => w).join(' · ')), meter(find),
    make('div', 'pale', find.prospect + ' ' + find.band));
  if (find.text) {
    // In the page itself, so that the browser's own search finds it.
    const words = make('details');
    words.append(make('summary', '', 'its text'), make('pre', '', find.text));
    element.append(words);
  }
  if (find.clip) {
    const sound = make('audio');
    sound.controls = true;
    sound.preload = 'none';
    sound.src = 'clips/' + find.id + '.wav';
    element.append(sound);
  }
  return element;
}
function open(find) {
  const more = at('more'), tools = make('div', 'tools'), name = make('label', 'name');
  name.append(box(find, more), make('span', '', find.path));
  tools.append(name);
  const list = shown(), place = list.findIndex(f => f.id === find.id);
  for (const [text, step] of [['‹ previous', -1], ['next ›', 1]]) {
    const button = make('button', '', text);
    button.disabled = !list[place + step];
    button.addEventListener('click', () => open(list[place + step]));
    tools.append(button);
  }
  const close = make('button', 'close', 'close');
  close.addEventListener('click', () => more.close());
  tools.append(close);
  more.replaceChildren(tools);
  if (find.message) {
    // Nothing in it may do anything.
    const frame = make('iframe', 'message');
    frame.setAttribute('sandbox', '');
    frame.src = 'messages/' + find.id + '.html';
    more.append(frame);
  } else if (find.page || find.picture) {
    const image = make('img');
    image.src = (find.page ? 'pages/' : 'tiles/') + find.id + '.png';
    image.alt = '';
    more.append(image);
  }
  const said = [['state', find.deleted ? find.state + ' ' + find.deleted : find.state], ['modified', find.modified],
    ['volume', find.volume], ['copies', find.copies > 1 ? find.copies : '']];
  for (const [name, value] of [...said, ...find.facts]) if (value) more.append(make('div', 'pale', name + ': ' + value));
  for (const reason of find.reasons) more.append(make('div', '', '– ' + reason));
  if (find.text && !find.message) more.append(make('pre', '', find.text));
  if (!more.open) more.showModal();
  more.focus();
}
// Arrows lead from find to find, space ticks, Enter opens.
document.addEventListener('keydown', event => {
  const isOpen = at('more').open, here = isOpen ? at('more') : document.activeElement.closest('[data-find]');
  if (/^(INPUT|SELECT)$/.test(event.target.tagName) && event.target.type !== 'checkbox') return;
  const list = shown();
  let place = here && here.dataset.find ? list.findIndex(f => f.id === Number(here.dataset.find)) : -1;
  if (event.key === ' ' && place >= 0) {
    pick(list[place], !picked.has(list[place].id));
  } else if (event.key === 'Enter' && place >= 0 && !isOpen && event.target === here) {
    open(list[place]);
  } else if (event.key.startsWith('Arrow')) {
    const first = document.querySelector('#grid .card'), across = asTable || !first || isOpen ? 1
      : Math.max(1, Math.round(at('grid').clientWidth / (first.offsetWidth + 12)));
    place += { ArrowRight: 1, ArrowLeft: -1, ArrowDown: across, ArrowUp: -across }[event.key];
    if (!list[place]) return;
    if (isOpen) open(list[place]);
    else document.querySelector('main [data-find="' + list[place].id + '"]').focus();
  } else return;
  event.preventDefault();
});
function table(list) {
  const element = make('table'), head = make('tr');
  for (const title of ['', 'ID', 'Prospect', 'State', 'Kind', 'Size', 'Modified', 'Deleted', 'Path']) head.append(make('th', '', title));
  element.append(head);
  for (const find of list) {
    const row = make('tr'), tick = make('td'), prospect = make('td');
    tick.append(box(find, row));
    prospect.append(make('span', '', find.prospect + ' ' + find.band), meter(find));
    row.append(tick, make('td', 'number', find.id), prospect, make('td', '', find.state),
      make('td', '', find.format || find.kind), make('td', 'number', sizeText(find.size)), make('td', '', find.modified || ''),
      make('td', '', find.deleted || ''), make('td', '', find.path));
    element.append(row);
  }
  return element;
}
function tell(list) {
  if (list) tell.shown = list.length;
  at('count').textContent = tell.shown + ' of ' + finds.length + ' shown, ' + picked.size + ' ticked';
  at('save').disabled = picked.size === 0;
}
function draw() {
  const list = shown();
  at('grid').hidden = asTable;
  at('list').hidden = !asTable;
  at('grid').replaceChildren(...(asTable ? [] : list.map(card)));
  at('list').replaceChildren(...(asTable ? [table(list)] : []));
  tell(list);
}
// A cell that a spreadsheet would take for a formula is made harmless; reading the list takes that back.
function quoted(text) {
  if (/^'*[=+\-@][\s\S]/.test(text)) text = "'" + text;
  return /[",\r\n]/.test(text) ? '"' + text.replaceAll('"', '""') + '"' : text;
}
function save() {
  const lines = finds.filter(f => picked.has(f.id)).map(f =>
    [catalog, f.id, f.state, f.prospect, f.band, f.kind, f.format, f.size, f.path].map(v => quoted(String(v))).join(','));
  const link = make('a');
  link.href = URL.createObjectURL(new Blob(['catalog,id,state,prospect,band,kind,format,size,path\r\n' + lines.join('\r\n') + '\r\n'], { type: 'text/csv' }));
  link.download = 'picks.csv';
  link.click();
  URL.revokeObjectURL(link.href);
}
for (const id of ['name', 'kind', 'folder', 'state', 'volume', 'band', 'sort']) at(id).addEventListener('input', draw);
at('form').addEventListener('click', () => { asTable = !asTable; at('form').textContent = asTable ? 'pictures' : 'table'; draw(); });
at('tick').addEventListener('click', () => { for (const find of shown()) picked.add(find.id); keep(); draw(); });
at('save').addEventListener('click', save);
draw();
</script>
</body>
</html>
)html";

}  // namespace dredger::preview
