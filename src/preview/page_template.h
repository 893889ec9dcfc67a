// What stands around the finds on the page. Whatever comes from the medium is shown as text only.
#pragma once

#include <string_view>

namespace dredger::preview {

inline constexpr std::string_view kPageStart = R"html(<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta http-equiv="Content-Security-Policy" content="default-src 'none'; img-src 'self' file: data:; media-src 'self' file:; style-src 'unsafe-inline'; script-src 'unsafe-inline'; base-uri 'none'; form-action 'none'">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>Finds</title>
<style>
:root { --ground: #efece5; --paper: #ffffff; --ink: #2b2a28; --pale: #6f6a61; --line: #d8d3c8; --sea: #1f6f8b;
  --sound: #2e7d5b; --patchy: #c08a1e; --faint: #b5532a; --gone: #9a9489; }
* { box-sizing: border-box; }
body { margin: 0; font: 14px/1.45 system-ui, sans-serif; color: var(--ink); background: var(--ground); }
header { position: sticky; top: 0; z-index: 1; padding: 10px 16px; background: var(--paper); border-bottom: 1px solid var(--line);
  display: flex; flex-wrap: wrap; gap: 8px 12px; align-items: center; }
h1 { font-size: 17px; margin: 0 8px 0 0; }
input, select, button { font: inherit; padding: 4px 8px; border: 1px solid var(--line); border-radius: 5px; background: #fff; color: inherit; }
input[type=search] { width: 190px; }
#folder { max-width: 220px; }
button.main { background: var(--sea); border-color: var(--sea); color: #fff; }
button:disabled { opacity: .45; }
#count { color: var(--pale); margin-left: auto; }
#grid { display: grid; grid-template-columns: repeat(auto-fill, minmax(230px, 1fr)); gap: 12px; padding: 16px; }
.card { background: var(--paper); border: 1px solid var(--line); border-radius: 6px; padding: 8px; display: flex; flex-direction: column; gap: 4px; }
.card.picked, tr.picked { outline: 2px solid var(--sea); }
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
td.number { text-align: right; white-space: nowrap; }
#list { padding: 16px; }
dialog { border: 1px solid var(--line); border-radius: 8px; max-width: min(860px, 94vw); padding: 16px; }
dialog img { max-width: 100%; display: block; margin: 8px auto; }
dialog pre { white-space: pre-wrap; overflow-wrap: anywhere; background: #f7f5f0; padding: 10px; max-height: 46vh; overflow: auto; }
[hidden] { display: none !important; }
</style>
</head>
<body>
<header>
<h1>Finds</h1>
<input type="search" id="name" placeholder="name contains" aria-label="Name contains">
<select id="kind" aria-label="Kind"><option value="">every kind</option></select>
<select id="folder" aria-label="Folder"><option value="">every folder</option></select>
<select id="band" aria-label="Band"><option value="">every band</option><option>sound</option><option>patchy</option><option>faint</option><option>gone</option></select>
<select id="sort" aria-label="Order"><option value="prospect">best first</option><option value="name">by name</option><option value="path">by folder</option><option value="modified">by date</option><option value="size">by size</option><option value="alike">alike side by side</option></select>
<button id="form">as a table</button>
<button id="tick">tick all shown</button>
<button id="save" class="main" disabled>download the pick list</button>
<span id="count"></span>
</header>
<main><div id="grid"></div><div id="list" hidden></div></main>
<dialog id="more"></dialog>
<script type="application/json" id="finds">)html";

inline constexpr std::string_view kPageEnd = R"html(</script>
<script>
'use strict';
const { catalog, finds } = JSON.parse(document.getElementById('finds').textContent);
const at = id => document.getElementById(id);
const picked = new Set();
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
  const list = finds.filter(f => (!name || f.path.toLowerCase().includes(name)) && (!kind || f.kind === kind) &&
    (!band || f.band === band) && (!folder || (folderOf(f) || '/') === folder || folderOf(f).startsWith(folder + '/')));
  const order = at('sort').value;
  if (order === 'alike') return alike(list);
  const by = { prospect: (a, b) => b.prospect - a.prospect, name: (a, b) => a.name.localeCompare(b.name),
    path: (a, b) => a.path.localeCompare(b.path), modified: (a, b) => (a.modified || '~').localeCompare(b.modified || '~'),
    size: (a, b) => b.size - a.size };
  return list.sort((a, b) => by[order](a, b) || a.id - b.id);
}
function box(find, around) {
  const tick = make('input');
  tick.type = 'checkbox';
  tick.checked = picked.has(find.id);
  tick.setAttribute('aria-label', 'Pick ' + find.name);
  around.classList.toggle('picked', tick.checked);
  tick.addEventListener('change', () => {
    tick.checked ? picked.add(find.id) : picked.delete(find.id);
    around.classList.toggle('picked', tick.checked);
    tell();
  });
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
    make('div', 'pale', [find.id, sizeText(find.size), (find.modified || 'no date').slice(0, 10)].join(' · ')), meter(find),
    make('div', 'pale', find.prospect + ' ' + find.band));
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
  const more = at('more');
  more.replaceChildren(make('div', 'name', find.path));
  if (find.picture) { const image = make('img'); image.src = 'tiles/' + find.id + '.png'; more.append(image); }
  for (const [name, value] of find.facts) more.append(make('div', 'pale', name + ': ' + value));
  for (const reason of find.reasons) more.append(make('div', '', '– ' + reason));
  if (find.text) more.append(make('pre', '', find.text));
  const close = make('button', '', 'close');
  close.addEventListener('click', () => more.close());
  more.append(close);
  more.showModal();
}
function table(list) {
  const element = make('table'), head = make('tr');
  for (const title of ['', 'ID', 'Prospect', 'Kind', 'Size', 'Modified', 'Path']) head.append(make('th', '', title));
  element.append(head);
  for (const find of list) {
    const row = make('tr'), tick = make('td'), prospect = make('td');
    tick.append(box(find, row));
    prospect.append(make('span', '', find.prospect + ' ' + find.band), meter(find));
    row.append(tick, make('td', 'number', find.id), prospect, make('td', '', find.format || find.kind),
      make('td', 'number', sizeText(find.size)), make('td', '', (find.modified || '').slice(0, 16).replace('T', ' ')), make('td', '', find.path));
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
function quoted(text) { return /[",\r\n]/.test(text) ? '"' + text.replaceAll('"', '""') + '"' : text; }
function save() {
  const lines = finds.filter(f => picked.has(f.id)).map(f =>
    [catalog, f.id, f.state, f.prospect, f.band, f.kind, f.format, f.size, f.path].map(v => quoted(String(v))).join(','));
  const link = make('a');
  link.href = URL.createObjectURL(new Blob(['catalog,id,state,prospect,band,kind,format,size,path\r\n' + lines.join('\r\n') + '\r\n'], { type: 'text/csv' }));
  link.download = 'picks.csv';
  link.click();
  URL.revokeObjectURL(link.href);
}
for (const id of ['name', 'kind', 'folder', 'band', 'sort']) at(id).addEventListener('input', draw);
at('form').addEventListener('click', () => { asTable = !asTable; at('form').textContent = asTable ? 'as pictures' : 'as a table'; draw(); });
at('tick').addEventListener('click', () => { for (const find of shown()) picked.add(find.id); draw(); });
at('save').addEventListener('click', save);
draw();
</script>
</body>
</html>
)html";

}  // namespace dredger::preview
