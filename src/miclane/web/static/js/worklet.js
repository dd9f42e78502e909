// Plays a range of the song: newest sound where it has arrived, the one before elsewhere, 10 ms crossfades between.

class Take {
  constructor(version, length) {
    this.version = version;
    this.left = new Float32Array(length);
    this.right = new Float32Array(length);
    this.have = [];
  }

  put(offset, left, right) {
    const n = Math.min(left.length, this.left.length - offset);
    if (n <= 0) return;
    this.left.set(left.subarray(0, n), offset);
    this.right.set(right.subarray(0, n), offset);
    this.have.push([offset, offset + n]);
    this.have.sort((a, b) => a[0] - b[0]);
    const merged = [this.have[0]];
    for (const [a, b] of this.have.slice(1)) {
      const last = merged[merged.length - 1];
      if (a <= last[1]) last[1] = Math.max(last[1], b);
      else merged.push([a, b]);
    }
    this.have = merged;
  }

  covers(from, to) {
    const end = Math.min(to, this.left.length);
    return this.have.some(([a, b]) => a <= from && b >= end);
  }

  get whole() {
    return this.covers(0, this.left.length);
  }
}

class Player extends AudioWorkletProcessor {
  constructor() {
    super();
    this.first = 0;
    this.last = 1;
    this.looping = true;
    this.at = 0;
    this.playing = false;
    this.takes = {};
    this.variant = "treated";
    this.weights = {};
    this.gain = { treated: 1, untreated: 1, unducked: 1, removed: 1 };
    this.fade = Math.round(sampleRate * 0.01);
    this.level = 0;
    this.peak = 0;
    this.count = 0;
    this.ticks = 0;
    this.told = "";
    this.amplitude = 0;
    this.port.onmessage = (event) => this.take(event.data);
  }

  take(m) {
    if (m.type === "range") {
      this.first = m.first;
      this.last = m.last;
      this.looping = m.looping;
      this.takes = {};
      this.at = Math.min(Math.max(m.at, m.first), m.last - 1);
    } else if (m.type === "looping") this.looping = m.looping;
    else if (m.type === "data") this.put(m);
    else if (m.type === "play") {
      this.at = Math.min(Math.max(m.at, this.first), this.last - 1);
      this.playing = true;
    } else if (m.type === "seek") this.at = Math.min(Math.max(m.at, this.first), this.last - 1);
    else if (m.type === "stop") this.playing = false;
    else if (m.type === "variant") this.variant = m.name;
    else if (m.type === "gain") this.gain[m.name] = m.value;
    else if (m.type === "forget") delete this.takes[m.variant];
  }

  put(m) {
    if (m.first !== this.first || m.last !== this.last) return;
    const pair = (this.takes[m.variant] ??= { now: null, next: null, weight: 0 });
    let take = [pair.next, pair.now].find((t) => t && t.version === m.version);
    if (!take) {
      if (pair.next && pair.next.version > m.version) return;
      take = new Take(m.version, this.last - this.first);
      if (pair.next && pair.next.whole && pair.weight >= 1) pair.now = pair.next;
      if (pair.now) {
        pair.next = take;
        pair.weight = 0;
      } else pair.now = take;
    }
    take.put(m.offset - this.first, m.left, m.right);
  }

  // one frame of a variant into out, from the newest take that has it
  read(pair, i) {
    if (!pair) return this.silent();
    const { now, next } = pair;
    if (next) {
      const wanted = next.covers(i, i + this.fade + 1) ? 1 : 0;
      const step = 1 / this.fade;
      if (pair.weight < wanted) pair.weight = Math.min(wanted, pair.weight + step);
      else if (pair.weight > wanted) pair.weight = Math.max(wanted, pair.weight - step);
      if (pair.weight > 0 && this.told !== next.version) {
        this.told = next.version;
        this.port.postMessage({ type: "heard", version: next.version });
      }
      const w = pair.weight;
      this.l = w * next.left[i] + (1 - w) * now.left[i];
      this.r = w * next.right[i] + (1 - w) * now.right[i];
      if (w >= 1 && next.whole) {
        pair.now = next;
        pair.next = null;
        pair.weight = 0;
      }
      return undefined;
    }
    this.l = now.left[i];
    this.r = now.right[i];
    return undefined;
  }

  silent() {
    this.l = 0;
    this.r = 0;
  }

  process(_, outputs) {
    const [left, right] = outputs[0];
    const names = ["treated", "untreated", "unducked", "removed"];
    const step = 1 / this.fade;
    for (let k = 0; k < left.length; k++) {
      const aim = this.playing ? 1 : 0;
      if (this.amplitude !== aim) {
        this.amplitude += Math.sign(aim - this.amplitude) * step;
        if (Math.abs(this.amplitude - aim) < step) this.amplitude = aim;
      }
      let l = 0;
      let r = 0;
      if (this.playing || this.amplitude > 0) {
        const i = this.at - this.first;
        for (const name of names) {
          const wanted = name === this.variant ? 1 : 0;
          let w = this.weights[name] ?? (name === "treated" ? 1 : 0);
          if (w < wanted) w = Math.min(wanted, w + step);
          else if (w > wanted) w = Math.max(wanted, w - step);
          this.weights[name] = w;
          if (w > 0) {
            this.read(this.takes[name], i);
            l += w * this.gain[name] * this.l;
            r += w * this.gain[name] * this.r;
          }
        }
        if (this.playing) {
          this.at += 1;
          if (this.at >= this.last) {
            if (this.looping) this.at = this.first;
            else {
              this.at = this.last - 1;
              this.playing = false;
              this.port.postMessage({ type: "ended" });
            }
          }
        }
      }
      left[k] = l * this.amplitude;
      right[k] = r * this.amplitude;
      this.level += left[k] * left[k] + right[k] * right[k];
      this.peak = Math.max(this.peak, Math.abs(left[k]), Math.abs(right[k]));
      this.count += 1;
    }
    this.ticks += 1;
    if (this.ticks % 10 === 0) {
      const pair = this.takes[this.variant];
      const i = this.at - this.first;
      const starved = this.playing && !(pair && (pair.now?.covers(i, i + 1) || pair.next?.covers(i, i + 1)));
      this.port.postMessage({
        type: "position", at: this.at, playing: this.playing, mean: this.level / this.count / 2, peak: this.peak, starved,
      });
      this.level = this.peak = this.count = 0;
    }
    return true;
  }
}

registerProcessor("miclane-player", Player);
