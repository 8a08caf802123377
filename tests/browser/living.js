// Put into every page before its own scripts: counts what it asks of the server, and remembers how a desk began, so that
// the next test may go on in it as if it had just been opened. To open one costs a third of what a test does there.

{
  let underway = 0;
  const fetched = window.fetch;
  window.fetch = (...asked) => {
    underway += 1;
    return fetched(...asked).finally(() => setTimeout(() => { underway -= 1; }));
  };
  const pause = (ms = 0) => new Promise((resolve) => setTimeout(resolve, ms));
  const quiet = async () => {
    for (let still = 0; still < 2; still += 1) {
      await pause(5);
      await window.reins.previews.settled();
      if (underway) still = -1;
    }
  };

  const NOT_TURNED = ["session", "processors", "pairs", "shortcuts", "stripId", "processorId"];
  const isState = (value) => Boolean(value) && typeof value === "object" && !Array.isArray(value);
  const desk = () => document.querySelector(".desk")._x_dataStack[0];
  const values = (object) => Object.entries(Object.getOwnPropertyDescriptors(object))
    .filter(([key, { value }]) => !key.startsWith("$") && !NOT_TURNED.includes(key) && value !== undefined && typeof value !== "function");
  const told = (object, wanted) => Object.fromEntries(values(object).filter(([, { value }]) => wanted(value)).map(([key]) => [key, JSON.stringify(object[key])]));
  const stored = () => JSON.stringify(localStorage);
  let began, follow;

  window.living = {
    remember() {
      const data = desk();
      follow = data.keeping.follow;
      began = { stored: stored(), states: { "": told(data, (value) => !isState(value)) } };
      for (const [name, { value }] of values(data)) if (isState(value)) began.states[name] = told(data[name], () => true);
    },

    /** Whether all there is can be turned back. */
    can: () => Boolean(began && window.reins && !desk().lost && stored() === began.stored),

    quiet: () => (window.reins ? quiet() : pause()),

    /** Until it is turned back the page is told of nothing, so that it asks for nothing that is taken away meanwhile. */
    async rest() {
      if (window.reins.live.playing) window.reins.live.stop();
      await quiet();
      desk().keeping.follow = async () => {};
    },

    /** @param {string} name of the strip to go to */
    async back(name) {
      const data = desk();
      const { live, view } = window.reins;
      for (const dialog of document.querySelectorAll("dialog[open]")) dialog.close();
      for (const opened of document.querySelectorAll("details[open]")) opened.open = false;
      document.activeElement?.blur();
      Object.assign(live, { frame: 0, played: 0 });
      const turned = [];
      for (const [part, whole] of Object.entries(began.states)) {
        const state = part ? data[part] : data;
        for (const [key, text] of Object.entries(whole)) {
          if (JSON.stringify(state[key]) === text) continue;
          turned.push(`${part}.${key}`);
          state[key] = JSON.parse(text);
        }
      }
      if (turned.some((one) => one.startsWith("otherwise"))) data.otherwise.tell(true);
      await quiet();
      // As keeping.refresh does it, but that all is shown once, with the strip that is gone to.
      data.session = await (await fetch(`/api/sessions/${data.session.id}`)).json();
      data.keeping.follow = follow;
      live.changeRate(data.document.sample_rate);
      const { tracks, buses, master } = data.document;
      const found = Object.entries({ ...tracks, ...buses, master }).find(([, strip]) => strip.name === name);
      Object.assign(data, { stripId: "", processorId: null });
      data.select(found ? found[0] : data.document.order[0]);
      data.referring.follow();
      data.above.follow();
      view.look(0, data.session.frames || 1);
      for (const one of [document.scrollingElement, ...document.querySelectorAll("*")]) if (one.scrollTop) one.scrollTop = 0;
      await quiet();
    },
  };
}
