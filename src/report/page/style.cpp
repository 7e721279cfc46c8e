// Colours differ in lightness as well as in hue, and stand only beside words.

#include "report/page/sections.h"

namespace nuvrat {

std::string_view page_style() {
  return R"css(
:root {
  --ground: #fbfaf7; --ink: #1d2429; --quiet: #59646c; --line: #cfd5d8; --panel: #ffffff;
  --good: #0b6448; --warn: #7a4b00; --bad: #9c2f12; --link: #0a558c;
  --fat: #cfe3f3; --ntfs: #f7dfae; --raw: #e3dbea; --free: #f0f1f1;
  --prepare: #2f7fb8; --switch: #b3420f; --settle: #6b7780; --part: #b9c6cd;
}
@media (prefers-color-scheme: dark) {
  :root {
    --ground: #14181b; --ink: #e3e8eb; --quiet: #9fabb3; --line: #38424a; --panel: #1b2125;
    --good: #5fd0a4; --warn: #f0bd5e; --bad: #ff9675; --link: #86c5f2;
    --fat: #1f4560; --ntfs: #5a4410; --raw: #44384f; --free: #22292e;
    --prepare: #67b1e4; --switch: #ff9675; --settle: #a3b0b9; --part: #46545d;
  }
}
* { box-sizing: border-box; }
body { margin: 0; background: var(--ground); color: var(--ink);
  font: 1rem/1.55 Georgia, "Noto Serif", "DejaVu Serif", serif; overflow-wrap: break-word; }
header, main, footer { max-width: 60rem; margin: 0 auto; padding: 0 1.25rem; }
h1, h2, h3, dt, th, figcaption, .kicker, .box, .lanes, table, .quiet {
  font-family: "Noto Sans", "DejaVu Sans", Helvetica, Arial, sans-serif; }
.skip { position: absolute; left: -99rem; }
.skip:focus { left: 1rem; top: 1rem; background: var(--panel); padding: .5rem; }
a { color: var(--link); }
:focus-visible { outline: 3px solid var(--link); outline-offset: 2px; }
header { padding-top: 2.5rem; border-top: .5rem solid var(--quiet); max-width: none; }
header > * { max-width: 57.5rem; margin-left: auto; margin-right: auto; }
header.good { border-color: var(--good); }
header.warn { border-color: var(--warn); }
header.bad { border-color: var(--bad); }
.kicker { color: var(--quiet); margin-bottom: .25rem; font-size: .95rem; }
h1 { font-size: clamp(1.6rem, 4.5vw, 2.4rem); line-height: 1.2; margin-top: 0; margin-bottom: .75rem; }
.good .mark { color: var(--good); }
.warn .mark { color: var(--warn); }
.bad .mark { color: var(--bad); }
.lead { font-size: 1.15rem; }
.facts { display: grid; grid-template-columns: repeat(auto-fit, minmax(min(17rem, 100%), 1fr));
  gap: .6rem 2rem; padding: 1rem 0; border-top: 1px solid var(--line); border-bottom: 1px solid var(--line); }
dt { font-size: .8rem; color: var(--quiet); }
dd { margin: 0; overflow-wrap: anywhere; }
h2 { font-size: 1.3rem; margin: 2.5rem 0 .75rem; }
h3 { font-size: 1rem; margin: 1.5rem 0 .5rem; }
code { font: .9em/1.4 "DejaVu Sans Mono", Consolas, monospace; overflow-wrap: anywhere; }
.claim { font-variant-numeric: tabular-nums; }
.steps li { margin-bottom: .75rem; }
.quiet { color: var(--quiet); font-size: .85rem; }
.divide { margin: 4rem 0 0; padding-top: 1rem; border-top: .25rem solid var(--line); color: var(--quiet); }
figure { margin: 1rem 0; }
figcaption { font-size: .9rem; color: var(--quiet); margin-bottom: .35rem; }
.map { display: flex; border: 1px solid var(--quiet); background: var(--panel); overflow: hidden; }
.box { flex: 1 1 0; container-type: inline-size; min-width: 2.1rem; padding: .4rem .3rem; font-size: .8rem; line-height: 1.35;
  border-left: 1px solid var(--quiet); overflow: hidden; min-height: 5.6rem; }
.box:first-child { border-left: 0; }
.box > * { display: block; overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
@container (max-width: 3.2rem) { .box > span, .box > small { display: none; } }
.box.fat { background: var(--fat); }
.box.ntfs { background: var(--ntfs); border-bottom: .4rem double var(--ink); }
.box.raw { background: var(--raw); border-bottom: .4rem dotted var(--ink); }
.box.free { background: var(--free); color: var(--quiet); }
.box.within { box-shadow: inset 0 .3rem 0 var(--quiet); }
.box.free b { min-height: 1.35em; }
.wide { overflow-x: auto; margin: 1rem 0; }
table { border-collapse: collapse; width: 100%; font-size: .85rem; background: var(--panel); }
caption { text-align: left; padding: .4rem 0; color: var(--quiet); background: var(--ground); }
th, td { text-align: left; vertical-align: top; padding: .35rem .6rem; border: 1px solid var(--line); }
th { font-weight: 600; }
thead th { background: var(--free); }
.n { text-align: right; font-variant-numeric: tabular-nums; white-space: nowrap; }
.changed { color: var(--bad); }
.moved { color: var(--link); }
.same { color: var(--good); }
.lanes { display: grid; grid-template-columns: max-content 1fr; gap: .3rem .7rem; font-size: .8rem; align-items: center; }
.lanes svg { width: 100%; height: 1.4rem; display: block; }
.ground { fill: var(--free); }
.part { fill: var(--part); stroke: var(--ground); }
rect.prepare { fill: var(--prepare); }
rect.switch { fill: var(--switch); }
rect.settle { fill: var(--settle); }
.dot { display: inline-block; width: .7em; height: .7em; margin-right: .4em; }
.dot.prepare { background: var(--prepare); }
.dot.switch { background: var(--switch); border-radius: 50%; }
.dot.settle { background: var(--settle); transform: rotate(45deg); }
footer { padding-bottom: 3rem; margin-top: 3rem; color: var(--quiet); font-size: .9rem; }
@page { size: A4; margin: 15mm; }
@media print {
  :root { --ground: #fff; --ink: #000; --quiet: #444; --line: #aaa; --panel: #fff; --good: #0b6448;
    --warn: #7a4b00; --bad: #9c2f12; --link: #000; --fat: #cfe3f3; --ntfs: #f7dfae; --raw: #e3dbea;
    --free: #f3f3f3; --prepare: #2f7fb8; --switch: #b3420f; --settle: #6b7780; --part: #b9c6cd; }
  body { font-size: 10pt; }
  header { padding-top: .8rem; }
  header, main, footer { max-width: none; padding-left: 0; padding-right: 0; }
  .skip { display: none; }
  .wide { overflow: visible; }
  table { font-size: 8pt; }
  th, td { padding: .15rem .35rem; }
  figure, tr, li { break-inside: avoid; }
  h2, h3, caption { break-after: avoid; }
  .divide { break-before: page; border: 0; }
  .map, .box, svg, .dot { print-color-adjust: exact; -webkit-print-color-adjust: exact; }
}
)css";
}

}  // namespace nuvrat
