// A canvas drawn as a chart sheet: ground, graticule with figures at the rim, and our own glyphs for the pieces.
import { digitsOf, figure, hertz, octaveTicks, scale, ticks } from "./geometry.js";

const NAMES = ["ground", "sheet", "raised", "line", "fine", "ink", "soft", "ask", "yours", "bad"];

let known = null; // the theme's colours by name, and whether it is the light one

function colours() {
  const light = document.documentElement.hasAttribute("data-light");
  if (known?.light !== light) {
    const style = getComputedStyle(document.documentElement);
    known = { light, ...Object.fromEntries(NAMES.map((n) => [n, style.getPropertyValue(`--${n}`).trim()])) };
  }
  return known;
}

export class Sheet {
  constructor(canvas, margin = {}) {
    this.__v_skip = true; // not to be watched by Alpine: it is drawn with, thousands of times a frame
    this.canvas = canvas;
    this.margin = { left: 56, right: 18, top: 22, bottom: 30, ...margin };
    this.c = canvas.getContext("2d");
  }

  /** Fit the canvas to its place and wipe it; false where it is not visible. */
  begin(height) {
    const width = this.canvas.parentElement.clientWidth;
    if (!width) return false;
    const dpr = window.devicePixelRatio || 1;
    if (width !== this.width || height !== this.height || dpr !== this.dpr) {
      this.width = width;
      this.height = height;
      this.dpr = dpr;
      this.canvas.width = width * dpr;
      this.canvas.height = height * dpr;
      this.canvas.style.width = `${width}px`;
      this.canvas.style.height = `${height}px`;
    }
    this.colour = colours();
    this.c.setTransform(dpr, 0, 0, dpr, 0, 0);
    this.c.clearRect(0, 0, width, height);
    this.c.font = '11px "Figures", monospace';
    this.left = this.margin.left;
    this.right = width - this.margin.right;
    this.top = this.margin.top;
    this.bottom = height - this.margin.bottom;
    return true;
  }

  x(low, high, log = false) {
    return scale(low, high, this.left, this.right, log);
  }

  y(low, high) {
    return scale(low, high, this.bottom, this.top);
  }

  line(x1, y1, x2, y2, colour = "line", width = 1, dash = []) {
    const { c } = this;
    c.beginPath();
    c.setLineDash(dash);
    c.moveTo(x1, y1);
    c.lineTo(x2, y2);
    c.strokeStyle = this.colour[colour];
    c.lineWidth = width;
    c.stroke();
    c.setLineDash([]);
  }

  text(words, x, y, colour = "soft", align = "left", font = null) {
    const { c } = this;
    const before = c.font;
    if (font) c.font = font;
    c.fillStyle = this.colour[colour];
    c.textAlign = align;
    c.textBaseline = "middle";
    c.fillText(words, x, y);
    c.font = before;
  }

  frame() {
    this.c.strokeStyle = this.colour.line;
    this.c.lineWidth = 1;
    this.c.strokeRect(this.left + 0.5, this.top + 0.5, this.right - this.left, this.bottom - this.top);
  }

  /** Vertical graticule with figures below. */
  across(axis, { log = false, unit = "", digits = 0, count = 10, figures = null } = {}) {
    const marks = log ? octaveTicks(axis.low, axis.high) : (figures || ticks(axis.low, axis.high, count)).map((v) => [v, true]);
    const places = Math.max(digits, figures ? 0 : digitsOf(marks.map(([value]) => value)));
    for (const [value, written] of marks) {
      const x = Math.round(axis.to(value)) + 0.5;
      this.line(x, this.top, x, this.bottom, "fine");
      if (written) this.text(log ? hertz(value) : figure(value, places), x, this.bottom + 12, "soft", "center");
    }
    if (unit.length > 2) this.text(unit, this.right, this.bottom + 24, "soft", "right");
    else if (unit) this.text(unit, this.left - 14, this.bottom + 12, "soft", "right");
  }

  /** Horizontal graticule with figures at the left rim. */
  down(axis, { unit = "", digits = 0, count = 6 } = {}) {
    const values = ticks(axis.low, axis.high, count);
    const places = Math.max(digits, digitsOf(values));
    for (const value of values) {
      const y = Math.round(axis.to(value)) + 0.5;
      this.line(this.left, y, this.right, y, "fine");
      this.text(figure(value, places), this.left - 7, y, "soft", "right");
    }
    if (unit) this.text(unit, this.left, this.top - 11, "soft", "left");
  }

  path(points, colour, width = 1.5, dash = []) {
    const { c } = this;
    c.beginPath();
    c.setLineDash(dash);
    points.forEach(([x, y], i) => (i ? c.lineTo(x, y) : c.moveTo(x, y)));
    c.strokeStyle = this.colour[colour] || colour;
    c.lineWidth = width;
    c.lineJoin = "round";
    c.stroke();
    c.setLineDash([]);
  }

  /** Hatching: what is meant does not hang on colour alone. */
  hatch(x, y, w, h, colour = "line", gap = 6) {
    const { c } = this;
    c.save();
    c.beginPath();
    c.rect(x, y, w, h);
    c.clip();
    c.beginPath();
    for (let at = x - h; at < x + w; at += gap) {
      c.moveTo(at, y + h);
      c.lineTo(at + h, y);
    }
    c.strokeStyle = this.colour[colour];
    c.lineWidth = 1;
    c.stroke();
    c.restore();
  }

  /** A numbered pin that ties a margin note to its place. */
  pin(number, x, y, state = "open") {
    const { c } = this;
    const colour = { open: "ask", done: "yours" }[state] || "soft";
    c.beginPath();
    c.arc(x, y, 8, 0, 7);
    c.fillStyle = this.colour.sheet;
    c.fill();
    c.strokeStyle = this.colour[colour];
    c.lineWidth = 1.5;
    c.stroke();
    this.text(`${number}`, x, y + 0.5, colour, "center", '10px "Figures", monospace');
  }

  /** The glyph of a piece, about 2r wide, at whole pixels. Ghosts are drawn open, soft ones small. */
  glyph(piece, x, y, r, colour = "ink", open = false) {
    const { canvas, half } = spriteOf(piece, Math.round(2 * r) / 2, this.colour[colour], open, this.dpr);
    const at = (v) => Math.round((v - half) * this.dpr) / this.dpr;
    this.c.drawImage(canvas, at(x), at(y), 2 * half, 2 * half);
  }

  /** Upright strokes at places x, `tall(i)` up and down from y. */
  strokes(places, y, tall, colour = "ink") {
    this.c.fillStyle = this.colour[colour];
    places.forEach((x, i) => this.c.fillRect(x - 0.5, y - tall(i), 1, 2 * tall(i)));
  }
}

const sprites = new Map(); // glyphs that were drawn once, because a chart shows hundreds of them

function spriteOf(piece, r, colour, open, dpr) {
  const key = `${piece} ${r} ${colour} ${open} ${dpr}`;
  if (!sprites.has(key)) {
    const half = Math.ceil(1.8 * r + 2);
    const canvas = new OffscreenCanvas(2 * half * dpr, 2 * half * dpr);
    const c = canvas.getContext("2d");
    c.scale(dpr, dpr);
    drawGlyph(c, piece, half, half, r, colour, open);
    sprites.set(key, { canvas, half });
  }
  return sprites.get(key);
}

function drawGlyph(c, piece, x, y, r, colour, open) {
  c.beginPath();
  if (piece === "kick") {
    c.arc(x, y, r, 0, Math.PI);
    c.closePath();
  } else if (piece === "snare") {
    c.rect(x - r, y - r * 0.45, 2 * r, r * 0.9);
  } else if (piece === "hihat") {
    c.moveTo(x - r, y - r * 0.6);
    c.lineTo(x, y + r * 0.2);
    c.lineTo(x + r, y - r * 0.6);
  } else if (piece === "ride" || piece === "crash") {
    c.moveTo(x - r, y + r * 0.4);
    c.quadraticCurveTo(x, y - r * (piece === "ride" ? 1 : 1.8), x + r, y + r * 0.4);
  } else {
    const points = { tom1: 3, tom2: 4, tom3: 5, tom4: 6, floor: 8 }[piece] || 4;
    for (let i = 0; i < points; i += 1) {
      const angle = -Math.PI / 2 + (i * 2 * Math.PI) / points;
      c.lineTo(x + r * Math.cos(angle), y + r * Math.sin(angle));
    }
    c.closePath();
  }
  c.strokeStyle = colour;
  c.fillStyle = colour;
  c.lineWidth = 1.3;
  if (!open && !["hihat", "ride", "crash"].includes(piece)) c.fill();
  c.stroke();
}

/** Call `draw` once after the canvas has a size, at each resize and at each theme change; returns how to stop. */
export function keepDrawn(canvas, draw) {
  let waiting = 0;
  const soon = () => {
    cancelAnimationFrame(waiting);
    waiting = requestAnimationFrame(draw);
  };
  const watcher = new ResizeObserver(soon);
  watcher.observe(canvas.parentElement);
  window.addEventListener("theme", soon);
  document.fonts.ready.then(soon);
  return {
    __v_skip: true,
    soon,
    stop() {
      watcher.disconnect();
      window.removeEventListener("theme", soon);
      cancelAnimationFrame(waiting);
    },
  };
}
