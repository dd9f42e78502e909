// Edits on their way to the server: first in, first out, one under way at a time. Nothing is lost, reordered or made twice.

/**
 * @typedef {{ op: string, path: string, value?: any, index?: number }} Edit
 * @typedef {{ edits: Edit[], where: string, alternative: string, gesture: string, structure: boolean, data: boolean, select: any, began: number, token: string,
 *   done: (told: any) => void, promise: Promise<any> }} Job
 * @typedef {{ state: "kept" | "refused" | "unheard", told: any }} Answer  kept by the server; refused by it; not heard of
 */

const FIRST_REST_MS = 400;
const LONGEST_REST_MS = 5000;

export class EditQueue {
  /**
   * @param {(job: Job) => Promise<Answer>} send
   * @param {{ kept: (job: Job, told: any) => void, refused: (job: Job, told: any) => void, waiting: (count: number, unheard: boolean) => void }} tell
   * @param {(ms: number) => Promise<void>} rest
   */
  constructor(send, tell, rest = (ms) => new Promise((done) => setTimeout(done, ms))) {
    this.send = send;
    this.tell = tell;
    this.rest = rest;
    /** @type {Job[]} the first of them is under way */
    this.jobs = [];
    this.unheard = false;
    this.running = false;
    /** @type {(() => void)[]} */
    this.idlers = [];
  }

  get size() {
    return this.jobs.length;
  }

  /** Put edits at the end, or into the last job that waits when they are of its gesture; what the server told of them, or null. */
  push({ edits, where = "", alternative = "", gesture = "", structure = false, data = false, select = null, began = performance.now() }) {
    const last = this.jobs.length > 1 || (this.jobs.length && !this.running) ? this.jobs.at(-1) : null;
    if (last && gesture && last.gesture === gesture && last.where === where && last.alternative === alternative && mergeable(last.edits, edits)) {
      merge(last.edits, edits);
      last.structure ||= structure;
      last.data ||= data;
      last.select = select ?? last.select;
      return last.promise;
    }
    /** @type {any} */
    const job = { edits: [...edits], where, alternative, gesture, structure, data, select, began, token: crypto.randomUUID() };
    job.promise = new Promise((done) => (job.done = done));
    this.jobs.push(job);
    this.tell.waiting(this.jobs.length, this.unheard);
    this.run();
    return job.promise;
  }

  /** Resolves once nothing waits. */
  idle() {
    return this.jobs.length ? new Promise((done) => this.idlers.push(() => done(undefined))) : Promise.resolve();
  }

  async run() {
    if (this.running) return;
    this.running = true;
    let rest = FIRST_REST_MS;
    while (this.jobs.length) {
      const job = this.jobs[0];
      const answer = await this.send(job);
      if (answer.state === "unheard") {
        this.unheard = true;
        this.tell.waiting(this.jobs.length, true);
        await this.rest(rest);
        rest = Math.min(2 * rest, LONGEST_REST_MS);
        continue; // the same edits with the same token: the server makes them once
      }
      this.unheard = false;
      rest = FIRST_REST_MS;
      this.jobs.shift();
      if (answer.state === "kept") this.tell.kept(job, answer.told);
      else this.tell.refused(job, answer.told);
      job.done(answer.state === "kept" ? answer.told : null);
      this.tell.waiting(this.jobs.length, false);
    }
    this.running = false;
    for (const idler of this.idlers.splice(0)) idler();
  }
}

/** Values that are set merge; what puts in, takes out or moves keeps its place among the others. */
const mergeable = (before, edits) => [...before, ...edits].every((e) => e.op === "set");

/** Of a place that is set again only the newest value is kept, unless something set since lies around or inside it. */
function merge(before, edits) {
  for (const edit of edits) {
    let at = before.length - 1;
    while (at >= 0 && before[at].path !== edit.path && !related(before[at].path, edit.path)) at -= 1;
    if (at >= 0 && before[at].path === edit.path) before[at] = edit;
    else before.push(edit);
  }
}

const related = (a, b) => a.startsWith(`${b}/`) || b.startsWith(`${a}/`);
