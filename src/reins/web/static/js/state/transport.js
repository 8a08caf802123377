// Playing, the loop, and going from strip to strip and from processor to processor.

/**
 * @param {object} kit the desk's parts that Alpine must not see
 * Needs of the desk: playing, document, session, stripId, chain, processorId, change, select, selectProcessor.
 */
export const transport = (kit) => ({
  toggle() { if (this.playing) kit.live.stop(); else kit.live.play(kit.live.frame); },
  toLoopStart() { kit.live.seek(this.document.loop.on ? this.document.loop.start_frame : 0); },
  toggleLoop() {
    const { loop } = this.document;
    const { start, frames } = kit.view.model;
    const span = loop.end_frame > loop.start_frame ? loop : { start_frame: start, end_frame: Math.min(start + frames, this.session.frames) };
    this.change({ kind: "set_session", loop: { ...span, on: !loop.on } });
  },
  step(list, current, by, choose) {
    const at = list.indexOf(current);
    const next = list[Math.min(list.length - 1, Math.max(0, at + by))];
    if (next && next !== current) choose(next);
  },
  neighbourTrack(by) { this.step([...this.document.order, ...this.document.bus_order, "master"], this.stripId, by, (id) => this.select(id)); },
  neighbourProcessor(by) { this.step(this.chain.map((e) => e.id), this.processorId, by, (id) => this.selectProcessor(id)); },
});
