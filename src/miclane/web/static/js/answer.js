// What came on the line, whole: read as a Response is, at once and on this thread. (A Response takes its bytes through streams
// and tasks of the browser's own, behind whatever is being drawn.)

/** @typedef {Pick<Response, "ok" | "status" | "headers" | "arrayBuffer" | "text" | "json"> & { clone(): Answer }} Answer */

/** @implements {Answer} */
export class WholeAnswer {
  /** @param {number} status @param {Record<string, string>} headers @param {Uint8Array[]} parts */
  constructor(status, headers, parts) {
    this.status = status;
    this.ok = status >= 200 && status < 300;
    this.headers = new Headers(headers);
    this.parts = parts;
  }

  async arrayBuffer() {
    const whole = new Uint8Array(this.parts.reduce((sum, part) => sum + part.length, 0));
    let at = 0;
    for (const part of this.parts) {
      whole.set(part, at);
      at += part.length;
    }
    return whole.buffer;
  }

  async text() {
    return new TextDecoder().decode(await this.arrayBuffer());
  }

  async json() {
    return JSON.parse(await this.text());
  }

  clone() {
    return new WholeAnswer(this.status, Object.fromEntries(this.headers), this.parts);
  }
}
