// The keyboard. Nothing here acts while a number or a name is being typed.

/** Each key with what it does, as the help shows it. */
export const SHORTCUTS = [
  ["Space", "play or stop"],
  ["Backspace", "to the loop's start"],
  ["L", "loop on or off"],
  ["1 2 3 4", "hear Result, Source, Difference, Key"],
  ["B", "processor on or off"],
  ["Shift+B", "the whole chain on or off"],
  ["[ ]", "previous and next processor"],
  [", .", "previous and next track, bus, master"],
  ["Tab, then ↑ ↓", "from group to group; within one, from control to control; ← → step a value or choose"],
  ["M on a control", "what moves it, or a new rein"],
  ["J", "jump: an action, a setting or a track by typing; “ratio 4” sets it"],
  ["/", "find a track by typing; Enter goes there"],
  ["Ctrl+click, Shift+click on strips", "choose several: faders, mute, solo and colour move together; Escape lets go"],
  ["S", "hear stereo, mono, the sides alone"],
  ["R", "the reference and the mix, by turns, equally loud"],
  ["P", "a mark on the ruler where you are"],
  ["T, four times or more", "tap the tempo"],
  ["W, Alt+click on the take", "why here: what the processor does at this moment"],
  ["Z", "freeze meters, spectra and the view, to read in peace; sound goes on"],
  ["A", "the whole session from above: every strip, what is held, a click goes there"],
  ["G", "the guide beside the work, and away"],
  ["F1", "what the guide says of the control that is pointed at or has the focus"],
  ["V", "swap take and picture"],
  ["F", "the whole side for what stands above"],
  ["Shift+1 to 4", "drafts"],
  ["Ctrl+Z", "undo"],
  ["Ctrl+Shift+Z", "redo"],
  ["?", "this list"],
  ["on the take: ← →", "a beat back or on, with Shift a bar"],
  ["+ − Page keys", "zoom and scroll"],
  ["↑ ↓, with Shift", "level axis, depth of what is held; or wheel and drag on the axis"],
  ["Enter, Shift+Enter", "loop begins, ends at the playhead"],
  ["Alt and arrows", "move a track or processor by its name"],
  ["on a band's peg: arrows", "frequency and gain, Page keys or wheel its Q"],
  ["Alt+drag", "a peg's reach"],
  ["H kept down", "the chosen band, or what is watched, alone"],
  ["O kept down", "the chosen processor overdone: twice what it takes or gives, in dB"],
  ["Y", "the chosen processor comes and goes by itself"],
  ["N, Shift+N", "the next worst place, the one before"],
  ["in a spread: arrows, 1 to 9, 0", "hear a tile; what is there; Enter keeps, Escape leaves"],
  ["in a blind test: 1 2 3, ← →", "hear A, B, X or first, second; answer; Enter ends, Escape gives up"],
];

const typing = (event) => Boolean(event.target.closest?.("input, select, textarea, dialog[open]"));

/** What is heard only while its key is down. @param {object} desk */
export function holdKeys(desk) {
  const held = { h: (down) => desk.frequencies.hearChosen(down), o: (down) => desk.otherwise.overdo(down) };
  let down = "";
  const letGo = () => {
    if (down) held[down](false);
    down = "";
  };
  window.addEventListener("keydown", (event) => {
    const key = event.key.toLowerCase();
    if (!(key in held) || down || event.repeat || event.ctrlKey || event.metaKey || event.altKey || typing(event) || desk.blinding.test) return;
    down = key;
    held[key](true);
  });
  window.addEventListener("keyup", (event) => event.key.toLowerCase() === down && letGo());
  window.addEventListener("blur", letGo); // a key let go elsewhere is not told
}

/** The keys of a place that is open go before all others, the take's own among them. @param {object} desk */
export const placeKeys = (desk) => (event) => {
  if (typing(event) || ![desk.blinding, desk.spreading].some((place) => place.key(event))) return;
  event.preventDefault();
  event.stopPropagation();
};

/** @param {object} desk @returns {(event: KeyboardEvent) => void} */
export function keyHandler(desk) {
  const plain = {
    " ": () => desk.transport.toggle(),
    Backspace: () => desk.transport.toLoopStart(),
    l: () => desk.transport.toggleLoop(),
    1: () => desk.hearing.hear("result"),
    2: () => desk.hearing.hear("source"),
    3: () => desk.hearing.hear("difference"),
    4: () => desk.hearing.hear("key"),
    b: () => desk.processor && desk.editing.switchProcessor(desk.processor),
    B: () => desk.strip && desk.editing.switchChain(),
    "[": () => desk.transport.neighbourProcessor(-1),
    "]": () => desk.transport.neighbourProcessor(1),
    ",": () => desk.transport.neighbourTrack(-1),
    ".": () => desk.transport.neighbourTrack(1),
    y: () => desk.otherwise.toggleTurns(),
    n: () => desk.asking.nextWorst(1),
    N: () => desk.asking.nextWorst(-1),
    w: () => desk.asking.here(),
    t: () => desk.transport.tap(),
    p: () => desk.places.put(),
    s: () => desk.hearing.nextSides(),
    r: () => desk.referring.swap(),
    a: () => desk.above.toggle(),
    g: () => desk.book.toggle(),
    F1: () => desk.book.help(),
    j: () => desk.jumping.open(),
    v: () => desk.room.swap(),
    z: () => desk.room.freeze(),
    f: () => desk.room.giveWhole(),
    "?": () => desk.$refs.help.showModal(),
    "/": () => desk.$refs.find.focus(),
    Escape: () => (desk.above.open ? desk.above.leave() : desk.book.open ? desk.book.close() : desk.together.letGo()),
  };
  const draft = (event) => event.shiftKey && /^Digit([1-4])$/.exec(event.code)?.[1];
  return (event) => {
    if (typing(event)) return;
    const control = event.ctrlKey || event.metaKey;
    const key = event.key.toLowerCase();
    const number = draft(event);
    const act = number ? () => desk.editing.useDraft(Number(number)) : control ? (key === "z" ? () => (event.shiftKey ? desk.editing.redo() : desk.editing.undo()) : null) : plain[event.key] ?? plain[key];
    if (!act || event.altKey) return;
    event.preventDefault();
    act();
  };
}
