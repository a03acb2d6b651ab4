"use strict";
// Histories of runs: panels above one another over one axis. Drag to zoom, double-click for the whole, hover or use the
// arrow keys for values. Everything is drawn afresh at each change: a few thousand points take a few milliseconds.

// Ticks of an axis of counts, at most about `most`: one, two or five times a power of ten apart, one at least.
function linearTicks(low, high, most) {
  const raw = (high - low) / most, power = Math.pow(10, Math.floor(Math.log10(raw)));
  const step = Math.max(1, [1, 2, 5, 10].map(factor => factor * power).find(value => value >= raw * (1 - 1e-9)));
  const ticks = [];
  for (let k = Math.ceil(low / step - 1e-9); k * step <= high * (1 + 1e-12) + 1e-12 * step; k++) ticks.push(k * step);
  return ticks;
}

// Ticks of a logarithmic axis from `low` to `high` (their logarithms): powers of ten, and between them where few fit.
function logTicks(low, high, most) {
  const first = Math.ceil(low - 1e-9), last = Math.floor(high + 1e-9);
  if (last - first >= 2) {
    const every = Math.max(1, Math.ceil((last - first + 1) / most)), ticks = [];
    for (let power = first; power <= last; power++) if (power % every === 0) ticks.push(power);
    return ticks;
  }
  const between = [];
  for (let power = Math.floor(low); power <= high; power++)
    for (const factor of [1, 2, 5]) {
      const place = power + Math.log10(factor);
      if (place >= low - 1e-9 && place <= high + 1e-9) between.push(place);
    }
  return between.length > 1 ? between : [low, high];
}

// A number as people write it: four digits, powers of ten where it is far from one.
function told(value, digits) {
  if (value === 0) return "0";
  const size = Math.abs(value);
  if (size >= 1e6 || size < 1e-3) {
    const [mantissa, power] = value.toExponential(digits - 1).split("e");
    return Number(mantissa) + "·10" + raised(Number(power));
  }
  return String(Number(value.toPrecision(digits)));
}

// An integer as superscript.
function raised(power) {
  return String(power).replace(/./g, sign => "⁰¹²³⁴⁵⁶⁷⁸⁹"["0123456789".indexOf(sign)] || "⁻");
}

// The place of the last of ascending `values` that is at most `value`, or -1.
function lastAtMost(values, value) {
  let low = 0, high = values.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (values[middle] <= value) low = middle + 1; else high = middle;
  }
  return low - 1;
}

// The place in `line` that stands for `value` on the axis: of steps the one in force, else the nearest; or -1.
function placeAt(line, value) {
  const before = lastAtMost(line.x, value);
  if (line.steps || before === line.x.length - 1) return before;
  if (before < 0) return 0;
  return value - line.x[before] <= line.x[before + 1] - value ? before : before + 1;
}

// Lowest and highest logarithm of what a panel shows between two places of the axis, a little wider; null for nothing.
function heights(lines, low, high) {
  let least = Infinity, most = -Infinity;
  for (const line of lines) {
    // Where nothing lies between, the parts of the line that pass through count.
    const first = Math.max(0, lastAtMost(line.x, low)), last = Math.min(line.x.length - 1, lastAtMost(line.x, high) + (line.steps ? 0 : 1));
    for (let k = first; k <= last; k++)
      if (line.y[k] > 0) { least = Math.min(least, line.y[k]); most = Math.max(most, line.y[k]); }
  }
  if (!(most > 0)) return null;
  const bottom = Math.log10(least), top = Math.log10(most), room = Math.max(0.06 * (top - bottom), 0.15);
  return [bottom - room, top + room];
}

function histories(box, figure) {
  const SVG = "http://www.w3.org/2000/svg", LEFT = 84, RIGHT = 18, BOTTOM = 48, GAP = 16, ROW = 20;
  const dark = window.matchMedia("(prefers-color-scheme: dark)"), paper = window.matchMedia("print");
  const hidden = new Set(), every = figure.lines.flatMap(line => line.x);
  // Not by spreading: a call takes only so many arguments.
  const whole = every.reduce((ends, x) => [Math.min(ends[0], x), Math.max(ends[1], x)], [Infinity, -Infinity]);
  if (whole[0] === whole[1]) { whole[0] -= 0.5; whole[1] += 0.5; }
  let range = whole, isLog = false, view = null, cursor = null;
  const hint = document.createElement("div");
  hint.className = "hint";
  hint.hidden = true;

  function along(x) { return isLog ? Math.log10(Math.max(x, 0.5)) : x; }
  function back(place) { return isLog ? Math.pow(10, place) : place; }
  function shown() { return figure.lines.filter(line => !hidden.has(line.run)); }

  function inks(forPicture) {
    if (forPicture) return {ink: "#1c2733", line: "#cfd8e0", color: line => line.colors[0]};
    const style = getComputedStyle(document.documentElement), isDark = dark.matches && !paper.matches;
    return {ink: style.getPropertyValue("--ink").trim(), line: style.getPropertyValue("--line").trim(), color: line => line.colors[isDark ? 1 : 0]};
  }

  function put(parent, name, attributes, text) {
    const element = document.createElementNS(SVG, name);
    for (const [key, value] of Object.entries(attributes)) element.setAttribute(key, value);
    if (text !== undefined) element.textContent = text;
    parent.appendChild(element);
    return element;
  }

  // The names of the runs above the panels, in as many rows as they need. Returns the height.
  function legend(svg, width, look) {
    let x = LEFT, y = ROW / 2;
    const seen = new Set();
    for (const line of shown()) {
      if (seen.has(line.run)) continue;
      seen.add(line.run);
      const wide = 44 + 7.2 * line.name.length;
      if (x > LEFT && x + wide > width - RIGHT) { x = LEFT; y += ROW; }
      put(svg, "path", {d: `M${x} ${y}h26`, stroke: look.color(line), "stroke-width": 2.5, "stroke-dasharray": line.dashes.join(" ")});
      put(svg, "text", {x: x + 32, y: y + 4, fill: look.ink}, line.name);
      x += wide;
    }
    return y + ROW / 2 + 4;
  }

  function trace(line, at, height) {
    let path = "", before = null;
    for (let k = 0; k < line.x.length; k++) {
      if (!(line.y[k] > 0)) { before = null; continue; }
      const x = at(line.x[k]).toFixed(1), y = height(line.y[k]).toFixed(1);
      path += before === null ? `M${x} ${y}` : line.steps ? `H${x}V${y}` : `L${x} ${y}`;
      before = y;
    }
    return path;
  }

  function picture(width, forPicture) {
    const look = inks(forPicture), height = figure.height;
    const svg = document.createElementNS(SVG, "svg");
    for (const [key, value] of Object.entries({width, height, viewBox: `0 0 ${width} ${height}`, "font-size": 13, "font-family": "system-ui, 'Segoe UI', 'DejaVu Sans', sans-serif", fill: "none"})) svg.setAttribute(key, value);
    if (forPicture) put(svg, "rect", {width, height, fill: "#ffffff"});
    const top = legend(svg, width, look), right = width - RIGHT, low = along(range[0]), high = along(range[1]);
    const at = x => LEFT + (along(x) - low) / (high - low) * (right - LEFT);
    const room = height - top - BOTTOM - GAP * (figure.panels.length - 1), all = figure.panels.reduce((sum, panel) => sum + panel.share, 0);
    const fewest = Math.max(3, Math.floor((right - LEFT) / 90));
    const across = isLog ? logTicks(low, high, fewest).map(back) : linearTicks(low, high, fewest);
    let y = top;
    const panels = figure.panels.map((panel, number) => {
      const tall = room * panel.share / all, own = {top: y, bottom: y + tall, lines: shown().filter(line => line.panel === number)};
      y += tall + GAP;
      return own;
    });
    panels.forEach((panel, number) => {
      const clip = `panel-${number}${forPicture ? "-picture" : ""}`, span = heights(panel.lines, range[0], range[1]);
      put(put(svg, "clipPath", {id: clip}), "rect", {x: LEFT - 4, y: panel.top, width: right - LEFT + 8, height: panel.bottom - panel.top});
      for (const x of across) put(svg, "path", {d: `M${at(x).toFixed(1)} ${panel.top}V${panel.bottom}`, stroke: look.line});
      const middle = (panel.top + panel.bottom) / 2;
      put(svg, "text", {x: 0, y: 0, fill: look.ink, "text-anchor": "middle", transform: `translate(18 ${middle}) rotate(-90)`}, figure.panels[number].title);
      if (span) {
        const level = y => panel.bottom - (Math.log10(y) - span[0]) / (span[1] - span[0]) * (panel.bottom - panel.top);
        for (const place of logTicks(span[0], span[1], Math.max(2, Math.floor((panel.bottom - panel.top) / 34)))) {
          const height = level(Math.pow(10, place)), isPower = Math.abs(place - Math.round(place)) < 1e-9;
          put(svg, "path", {d: `M${LEFT} ${height.toFixed(1)}H${right}`, stroke: look.line});
          put(svg, "text", {x: LEFT - 8, y: height + 4, fill: look.ink, "text-anchor": "end"}, isPower ? "10" + raised(Math.round(place)) : told(Math.pow(10, place), 3));
        }
        const inside = put(svg, "g", {"clip-path": `url(#${clip})`});
        for (const line of panel.lines) {
          put(inside, "path", {d: trace(line, at, level), stroke: look.color(line), "stroke-width": 2, "stroke-linejoin": "round", "stroke-dasharray": line.dashes.join(" ")});
          if (line.marks) line.x.forEach((x, k) => { if (line.y[k] > 0) put(inside, "circle", {cx: at(x).toFixed(1), cy: level(line.y[k]).toFixed(1), r: 2.6, fill: look.color(line)}); });
        }
      } else put(svg, "text", {x: (LEFT + right) / 2, y: middle + 4, fill: look.ink, "text-anchor": "middle"}, "nothing above zero to show");
      put(svg, "rect", {x: LEFT, y: panel.top, width: right - LEFT, height: panel.bottom - panel.top, stroke: look.line});
    });
    for (const x of across) put(svg, "text", {x: at(x).toFixed(1), y: height - BOTTOM + 18, fill: look.ink, "text-anchor": "middle"}, told(x, 4));
    put(svg, "text", {x: (LEFT + right) / 2, y: height - 8, fill: look.ink, "text-anchor": "middle"}, figure.along);
    return {svg, top, right, bottom: height - BOTTOM, at, from: place => back(low + (place - LEFT) / (right - LEFT) * (high - low)), look};
  }

  function draw() {
    view = picture(Math.max(box.clientWidth, 320), false);
    view.svg.setAttribute("aria-hidden", "true");
    box.replaceChildren(view.svg, hint);
    view.mark = put(view.svg, "path", {stroke: view.look.ink, "stroke-dasharray": "3 3", "pointer-events": "none"});
    view.pick = put(view.svg, "rect", {fill: view.look.ink, "fill-opacity": 0.12, "pointer-events": "none", y: view.top, height: view.bottom - view.top, width: 0});
    point(cursor);
  }

  // Show the values of all lines at a place of the axis.
  function point(x) {
    cursor = x === null || x < range[0] || x > range[1] ? null : x;
    hint.hidden = cursor === null;
    view.mark.setAttribute("d", cursor === null ? "" : `M${view.at(cursor)} ${view.top}V${view.bottom}`);
    if (cursor === null) return;
    const rows = [`${figure.along} ${told(Math.round(cursor), 7)}`];
    for (const line of shown()) {
      const k = placeAt(line, cursor);
      if (k < 0) continue;
      const panel = figure.panels[line.panel], value = (line.y[k] <= panel.floor ? "at most " : "") + told(line.y[k], 4);
      rows.push(`${line.name}: ${panel.title} ${value}` + (line.steps ? "" : ` (at ${told(line.x[k], 7)})`));
    }
    hint.replaceChildren(...rows.map(text => { const row = document.createElement("div"); row.textContent = text; return row; }));
    const place = view.at(cursor), isRight = place > (LEFT + view.right) / 2;
    hint.style.left = isRight ? "" : `${place + 12}px`;
    hint.style.right = isRight ? `${box.clientWidth - place + 12}px` : "";
    hint.style.top = `${view.top + 8}px`;
  }

  function zoom(low, high) {
    const from = Math.max(whole[0], Math.min(low, high)), to = Math.min(whole[1], Math.max(low, high));
    if (to - from > 1e-9 * (whole[1] - whole[0])) { range = [from, to]; draw(); }
  }
  function zoomBy(factor) {
    if (!factor) { range = whole; draw(); return; }
    const low = along(range[0]), high = along(range[1]), middle = cursor === null ? (low + high) / 2 : along(cursor);
    zoom(back(middle - factor * (middle - low)), back(middle + factor * (high - middle)));
  }

  let start = null;
  const inside = event => event.clientX - box.getBoundingClientRect().left;
  const limited = place => Math.min(Math.max(place, LEFT), view.right);
  box.addEventListener("pointerdown", event => { if (event.button === 0) { start = limited(inside(event)); box.setPointerCapture(event.pointerId); } });
  box.addEventListener("pointermove", event => {
    const place = inside(event);
    if (start !== null) {
      view.pick.setAttribute("x", Math.min(start, limited(place)));
      view.pick.setAttribute("width", Math.abs(limited(place) - start));
    }
    point(place < LEFT || place > view.right ? null : view.from(place));
  });
  box.addEventListener("pointerup", event => {
    const end = limited(inside(event)), first = start;
    start = null;
    view.pick.setAttribute("width", 0);
    if (first !== null && Math.abs(end - first) > 5) zoom(view.from(first), view.from(end));
  });
  box.addEventListener("pointercancel", () => { start = null; view.pick.setAttribute("width", 0); });
  box.addEventListener("pointerleave", () => point(null));
  box.addEventListener("dblclick", () => zoomBy(0));
  box.addEventListener("keydown", event => {
    const steps = {ArrowLeft: -1, ArrowRight: 1}, factors = {"+": 0.5, "-": 2, "0": 0};
    if (event.key in steps) {
      const now = cursor === null ? view.at(range[0]) : view.at(cursor);
      point(view.from(limited(now + steps[event.key] * (event.shiftKey ? 40 : 8))));
    } else if (event.key in factors) zoomBy(factors[event.key]);
    else if (event.key === "Escape") point(null);
    else return;
    event.preventDefault();
  });

  document.querySelectorAll("[data-run]").forEach(input => input.addEventListener("change", () => {
    hidden[input.checked ? "delete" : "add"](Number(input.dataset.run));
    draw();
  }));
  document.querySelectorAll("[data-zoom]").forEach(button => button.addEventListener("click", () => { cursor = null; zoomBy(Number(button.dataset.zoom)); }));
  document.querySelector("[data-log]").addEventListener("click", event => {
    isLog = !isLog;
    event.target.textContent = isLog ? "linear axis" : "log axis";
    draw();
  });
  document.querySelector("[data-save]").addEventListener("click", () => {
    const width = Math.max(box.clientWidth, 320), sharp = 2, image = new Image();
    image.onload = () => {
      const canvas = document.createElement("canvas");
      canvas.width = sharp * width;
      canvas.height = sharp * figure.height;
      canvas.getContext("2d").drawImage(image, 0, 0, canvas.width, canvas.height);
      const link = document.createElement("a");
      link.download = "histories.png";
      link.href = canvas.toDataURL("image/png");
      link.click();
    };
    image.src = "data:image/svg+xml;charset=utf-8," + encodeURIComponent(new XMLSerializer().serializeToString(picture(width, true).svg));
  });
  for (const scheme of [dark, paper]) scheme.addEventListener("change", draw);
  new ResizeObserver(() => { if (!view || Math.abs(box.clientWidth - Number(view.svg.getAttribute("width"))) > 0.5) draw(); }).observe(box);
  draw();
}
