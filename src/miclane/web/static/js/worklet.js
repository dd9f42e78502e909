// Plays a range of the song: newest sound where it has arrived, the one before elsewhere, 10 ms crossfades between.

// Sound of one version, in the pieces in which it came: nothing is copied or made on this thread but what says where they lie.
class Take {
  constructor(version) {
    this.version = version;
    this.pieces = []; // {from, to, left, right}, in order, none over another
    this.here = null; // the one that is being read
    this.l = 0;
    this.r = 0;
    this.aim = null; // what it is turned by to be as loud as what it is compared with; null: as its side is
    this.gain = null; // and is, just now
  }

  put(from, left, right) {
    this.cut(from, from + left.length);
    const at = this.pieces.findIndex((p) => p.from > from);
    this.pieces.splice(at < 0 ? this.pieces.length : at, 0, { from, to: from + left.length, left, right });
  }

  // what lies there goes: something newer comes in its place, or it is no longer wanted
  cut(from, to) {
    if (!this.pieces.some((p) => p.from < to && p.to > from)) return;
    this.pieces = this.pieces.flatMap((p) => {
      if (p.from >= to || p.to <= from) return [p];
      return [this.part(p, p.from, from), this.part(p, to, p.to)].filter((part) => part !== null);
    });
    this.here = null;
  }

  part(p, from, to) {
    if (from >= to) return null;
    return { from, to, left: p.left.subarray(from - p.from, to - p.from), right: p.right.subarray(from - p.from, to - p.from) };
  }

  // how many frames from `at` on are there
  room(at) {
    let end = at;
    for (const p of this.pieces) {
      if (p.from <= end && p.to > end) end = p.to;
    }
    return end - at;
  }

  covers(from, to) {
    return this.room(from) >= to - from;
  }

  // the frame at `at`, as l and r; silence where there is none
  read(at) {
    let p = this.here;
    if (!p || at < p.from || at >= p.to) this.here = p = this.pieces.find((one) => at >= one.from && at < one.to) ?? null;
    this.l = p ? p.left[at - p.from] : 0;
    this.r = p ? p.right[at - p.from] : 0;
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
    this.side = "treated";
    this.waiting = false;
    this.lacked = 0; // frames since neither the side asked for nor the one before was there
    this.weights = {};
    this.gain = {}; // of sides whose sound does not say itself how loud it is to be
    this.fade = Math.round(sampleRate * 0.01);
    this.turning = 1 / (0.005 * sampleRate);
    this.level = 0;
    this.peak = 0;
    this.count = 0;
    this.ticks = 0;
    this.told = "";
    this.fell = 0; // how often an older sound was heard again, since what follows a newer one had not come
    this.amplitude = 0;
    this.guard = 1; // what the loudspeaker is turned down by, so that nothing passes full scale
    this.least = 1;
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
    else if (m.type === "cut") for (const take of this.takes[m.variant]?.takes ?? []) take.cut(m.from, m.to);
    else if (m.type === "forget") {
      delete this.takes[m.variant];
      delete this.weights[m.variant];
    }
  }

  put(m) {
    if (m.first !== this.first || m.last !== this.last) return;
    const pair = (this.takes[m.variant] ??= { takes: [], current: null, from: null, weight: 1 });
    let take = pair.takes.find((t) => t.version === m.version);
    if (!take) {
      if (pair.takes.length && pair.takes[0].version > m.version) return;
      take = new Take(m.version);
      const whole = pair.takes.find((t) => this.whole(t)); // is heard wherever none of the newer ones has come
      pair.takes = [take, ...pair.takes.filter((t, k) => k < 2 || t === pair.current || t === pair.from || t === whole)];
    }
    take.put(m.offset, m.left, m.right);
    if (typeof m.gain === "number") take.aim = m.gain;
    else if (m.hold && take.aim === null && pair.current) take.aim = this.held(pair.current, m);
  }

  // what keeps a piece as loud as it was before it was changed, until it is known how loud all of it is
  held(before, m) {
    if (!before.covers(m.offset, m.offset + m.left.length) || before.gain === null) return null;
    let [old, fresh] = [0, 0];
    for (let k = 0; k < m.left.length; k++) {
      before.read(m.offset + k);
      old += before.l ** 2 + before.r ** 2;
      fresh += m.left[k] ** 2 + m.right[k] ** 2;
    }
    if (!(old > 1e-9 && fresh > 1e-9)) return before.gain;
    return before.gain * Math.min(Math.max(Math.sqrt(old / fresh), 0.25), 4);
  }

  // what a take is turned by now: at once with its first frame, in some milliseconds where that is learnt later
  turned(take, named) {
    const aim = take.aim ?? named;
    if (take.gain === null) take.gain = aim;
    else if (take.gain !== aim) {
      take.gain += (aim - take.gain) * this.turning;
      if (Math.abs(aim - take.gain) < 1e-6) take.gain = aim;
    }
    return take.gain;
  }

  whole(take) {
    return take.covers(this.first, this.last);
  }

  // whether a take has what comes next, up to the end of the range
  has(take, frames) {
    return take.covers(this.at, Math.min(this.at + frames, this.last));
  }

  // once a block: the newest take that has what comes next is faded to; there must be time to fade away from it again
  choose(pair) {
    if (pair.weight < 1) return;
    const enough = (t) => this.has(t, t === pair.current ? 128 + this.fade : 256 + 2 * this.fade);
    const wanted = pair.takes.find(enough) ?? pair.takes.find((t) => this.has(t, 128 + this.fade)) ?? pair.takes.find((t) => this.has(t, 128));
    if (!wanted || wanted === pair.current) return;
    if (wanted.version < pair.current?.version) this.fell += 1;
    pair.from = pair.current;
    pair.current = wanted;
    pair.weight = pair.from ? 0 : 1;
    pair.step = 1 / Math.max(16, Math.min(this.fade, pair.from?.room(this.at) ?? 0)); // over before the old one ends
    if (this.whole(wanted)) pair.takes = pair.takes.filter((t) => t.version >= wanted.version);
    if (this.told !== wanted.version) {
      this.told = wanted.version;
      this.port.postMessage({ type: "heard", version: wanted.version, when: Date.now() });
    }
  }

  // the frame at the playhead of a variant
  read(pair, named) {
    if (!pair?.current) {
      this.silent();
      return;
    }
    const { current, from } = pair;
    const gain = this.turned(current, named);
    current.read(this.at);
    this.l = gain * current.l;
    this.r = gain * current.r;
    if (from) {
      const w = pair.weight;
      const share = w * w * (3 - 2 * w); // without corners
      const before = this.turned(from, named);
      from.read(this.at);
      this.l = share * this.l + (1 - share) * before * from.l;
      this.r = share * this.r + (1 - share) * before * from.r;
      pair.weight = Math.min(1, w + pair.step);
      if (pair.weight >= 1) pair.from = null;
    }
  }

  ready(name) {
    const take = this.takes[name]?.current;
    return take ? this.has(take, 128) : false;
  }

  // what is heard is measured; then the loudspeaker gets nothing over full scale, and nothing that is no number
  safe(left, right, k) {
    const most = Math.max(Math.abs(left[k]), Math.abs(right[k]));
    if (!(most < Infinity)) {
      left[k] = right[k] = this.least = 0;
      return;
    }
    this.level += left[k] * left[k] + right[k] * right[k];
    this.peak = Math.max(this.peak, most);
    this.count += 1;
    this.guard += (1 - this.guard) / (0.1 * sampleRate);
    if (this.guard > 0.9999) this.guard = 1;
    if (most * this.guard > 1) this.guard = 1 / most;
    this.least = Math.min(this.least, this.guard);
    left[k] *= this.guard;
    right[k] *= this.guard;
  }

  silent() {
    this.l = 0;
    this.r = 0;
  }

  process(_, outputs) {
    const [left, right] = outputs[0];
    const names = Object.keys(this.takes);
    const step = 1 / this.fade;
    if (this.playing) {
      for (const name of names) {
        const pair = this.takes[name];
        if (pair && (name === this.variant || this.weights[name] > 0)) this.choose(pair);
      }
    }
    // the side asked for is heard once it is there, the one before until then; with no sound of either the playhead
    // waits a moment for the one asked for, then for the first
    const before = this.side;
    if (this.ready(this.variant)) this.side = this.variant;
    if (this.side !== before) this.port.postMessage({ type: "side", name: this.side, when: Date.now() });
    const there = this.ready(this.side);
    if (this.side === this.variant || !this.playing) this.lacked = 0;
    else if (!there || this.lacked) this.lacked += left.length;
    this.waiting = this.playing && (!there || (this.lacked > 0 && this.lacked < sampleRate / 2));
    if (!this.waiting) this.lacked = 0;
    for (let k = 0; k < left.length; k++) {
      const aim = this.playing && !this.waiting ? 1 : 0;
      if (this.amplitude !== aim) {
        this.amplitude += Math.sign(aim - this.amplitude) * step;
        if (Math.abs(this.amplitude - aim) < step) this.amplitude = aim;
      }
      let l = 0;
      let r = 0;
      if (this.playing || this.amplitude > 0) {
        for (const name of names) {
          const wanted = name === this.side ? 1 : 0;
          let w = this.weights[name] ?? (name === "treated" ? 1 : 0);
          if (w < wanted) w = Math.min(wanted, w + step);
          else if (w > wanted) w = Math.max(wanted, w - step);
          this.weights[name] = w;
          if (w > 0) {
            this.read(this.takes[name], this.gain[name] ?? 1);
            l += w * this.l;
            r += w * this.r;
          }
        }
        if (this.playing && !this.waiting) {
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
      this.safe(left, right, k);
    }
    this.ticks += 1;
    if (this.ticks % 10 === 0) {
      this.port.postMessage({
        type: "position", at: this.at, playing: this.playing, mean: this.level / Math.max(this.count, 1) / 2, peak: this.peak, starved: this.waiting, guard: this.least, fell: this.fell,
      });
      this.level = this.peak = this.count = 0;
      this.least = this.guard;
    }
    return true;
  }
}

registerProcessor("miclane-player", Player);
