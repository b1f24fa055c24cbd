// Applies tables of colours that the server made: a frame goes in, a canvas with its look comes out. WebGL2.
import { brush } from "./dom.js";

const VERTEX = `#version 300 es
in vec2 at; out vec2 uv;
void main() { uv = at * 0.5 + 0.5; gl_Position = vec4(at.x, -at.y, 0.0, 1.0); }`;
const FRAGMENT = `#version 300 es
precision highp float; precision highp sampler3D;
in vec2 uv; out vec4 colour;
uniform sampler2D frame; uniform sampler3D table; uniform float size;
void main() {
  vec4 c = texture(frame, uv);
  colour = vec4(texture(table, (c.rgb * (size - 1.0) + 0.5) / size).rgb, c.a);
}`;
const PATIENCE = 2000; // ms
const MOST = 12; // tables kept in the card's memory

export class Looks {
  /** @param {(look: object[]) => string} url where the table of a look lies */
  constructor(url) {
    this.url = url;
    /** @type {Map<string, WebGLTexture|null>} */ this.tables = new Map();
    /** A drawn frame by how long it took, in ms. */ this.cost = 0;
    this.half = false;
    /** @type {HTMLCanvasElement|null} */ this.canvas = null;
    /** @type {WebGL2RenderingContext|null} */ this.gl = null;
    this.broken = false;
    /** @type {OffscreenCanvas|null} */ this.plain = null;
    /** @type {WebGLUniformLocation|null} */ this.size = null;
    /** @type {WebGLTexture|null} */ this.frame = null;
  }

  /** Whether there is anything to draw with. */
  open() {
    if (this.gl || this.broken) return !!this.gl;
    this.canvas = document.createElement("canvas");
    const gl = this.canvas.getContext("webgl2", { alpha: true, premultipliedAlpha: false, antialias: false });
    if (!gl) {
      this.broken = true;
      return false;
    }
    this.canvas.addEventListener("webglcontextlost", (e) => {
      e.preventDefault();
      this.gl = null;
      this.tables.clear();
    });
    this.gl = gl;
    const program = gl.createProgram();
    for (const [type, text] of [
      [gl.VERTEX_SHADER, VERTEX],
      [gl.FRAGMENT_SHADER, FRAGMENT],
    ]) {
      const shader = /** @type {WebGLShader} */ (gl.createShader(/** @type {number} */ (type)));
      gl.shaderSource(shader, /** @type {string} */ (text));
      gl.compileShader(shader);
      gl.attachShader(program, shader);
    }
    gl.linkProgram(program);
    gl.useProgram(program);
    const corners = gl.createBuffer();
    gl.bindBuffer(gl.ARRAY_BUFFER, corners);
    gl.bufferData(gl.ARRAY_BUFFER, new Float32Array([-1, -1, 1, -1, -1, 1, 1, 1]), gl.STATIC_DRAW);
    const at = gl.getAttribLocation(program, "at");
    gl.enableVertexAttribArray(at);
    gl.vertexAttribPointer(at, 2, gl.FLOAT, false, 0, 0);
    gl.uniform1i(gl.getUniformLocation(program, "frame"), 0);
    gl.uniform1i(gl.getUniformLocation(program, "table"), 1);
    this.size = gl.getUniformLocation(program, "size");
    this.frame = gl.createTexture();
    gl.activeTexture(gl.TEXTURE0);
    gl.bindTexture(gl.TEXTURE_2D, this.frame);
    for (const [name, value] of [
      [gl.TEXTURE_MIN_FILTER, gl.LINEAR],
      [gl.TEXTURE_MAG_FILTER, gl.LINEAR],
      [gl.TEXTURE_WRAP_S, gl.CLAMP_TO_EDGE],
      [gl.TEXTURE_WRAP_T, gl.CLAMP_TO_EDGE],
    ])
      gl.texParameteri(gl.TEXTURE_2D, name, value);
    return true;
  }

  /** Whether the table of a look is here; asks for it otherwise. @param {object[]} look */
  ready(look) {
    if (!this.open()) return true;
    const key = JSON.stringify(look);
    if (this.tables.has(key)) return !!this.tables.get(key);
    this.tables.set(key, null);
    fetch(this.url(look))
      .then((r) => (r.ok ? r.arrayBuffer() : Promise.reject(new Error(r.statusText))))
      .then((bytes) => this.keep(key, new Uint8Array(bytes)))
      .catch(() => setTimeout(() => this.tables.delete(key), PATIENCE)); // another try, but not with every frame
    return false;
  }

  /** @param {string} key @param {Uint8Array} bytes of a cube of colours, three bytes each */
  keep(key, bytes) {
    const gl = /** @type {WebGL2RenderingContext} */ (this.gl),
      n = Math.round((bytes.length / 3) ** (1 / 3)),
      t = gl.createTexture();
    gl.activeTexture(gl.TEXTURE1);
    gl.bindTexture(gl.TEXTURE_3D, t);
    gl.pixelStorei(gl.UNPACK_ALIGNMENT, 1);
    gl.texImage3D(gl.TEXTURE_3D, 0, gl.RGB8, n, n, n, 0, gl.RGB, gl.UNSIGNED_BYTE, bytes);
    for (const name of [gl.TEXTURE_MIN_FILTER, gl.TEXTURE_MAG_FILTER])
      gl.texParameteri(gl.TEXTURE_3D, name, gl.LINEAR);
    for (const name of [gl.TEXTURE_WRAP_S, gl.TEXTURE_WRAP_T, gl.TEXTURE_WRAP_R])
      gl.texParameteri(gl.TEXTURE_3D, name, gl.CLAMP_TO_EDGE);
    gl.uniform1f(this.size, n);
    this.tables.set(key, t);
    if (this.tables.size <= MOST) return;
    for (const [old, texture] of this.tables) {
      if (!texture || old === key) continue;
      gl.deleteTexture(texture);
      this.tables.delete(old);
      break;
    }
  }

  /**
   * The frame with its look, on a canvas that the next call draws over. `most` bounds its width: more is not seen.
   * @param {any} f @param {number} fw @param {number} fh @param {object[]} look @param {number} most
   */
  drawn(f, fw, fh, look, most) {
    const { gl, canvas } = this,
      table = this.tables.get(JSON.stringify(look));
    if (!gl || !canvas || !table) return f;
    const began = performance.now(),
      k = Math.min(1, most / fw) * (this.half ? 0.5 : 1);
    const w = Math.max(2, Math.round(fw * k)),
      h = Math.max(2, Math.round(fh * k));
    if (canvas.width !== w || canvas.height !== h) {
      canvas.width = w;
      canvas.height = h;
    }
    gl.viewport(0, 0, w, h);
    gl.activeTexture(gl.TEXTURE0);
    gl.bindTexture(gl.TEXTURE_2D, this.frame);
    gl.pixelStorei(gl.UNPACK_ALIGNMENT, 4);
    gl.texImage2D(gl.TEXTURE_2D, 0, gl.RGBA, gl.RGBA, gl.UNSIGNED_BYTE, k < 1 ? this.smaller(f, w, h) : f);
    gl.activeTexture(gl.TEXTURE1);
    gl.bindTexture(gl.TEXTURE_3D, table);
    gl.drawArrays(gl.TRIANGLE_STRIP, 0, 4);
    this.cost = performance.now() - began;
    return canvas;
  }

  /** A frame made smaller before it is uploaded: that costs as much as drawing.
   * @param {any} f @param {number} w @param {number} h */
  smaller(f, w, h) {
    this.plain ??= new OffscreenCanvas(w, h);
    if (this.plain.width !== w || this.plain.height !== h) {
      this.plain.width = w;
      this.plain.height = h;
    }
    brush(this.plain, { alpha: true }).drawImage(f, 0, 0, w, h);
    return this.plain;
  }
}
