// @ts-check
// One tab stop for what belongs together, arrows inside: a group of controls, the list of strips, a table of bands. Up and
// down go from one to the next; left and right stay with what has the focus, since a slider steps by them.

const ITEMS = "button:not(.control-rein), select, input, a[href], summary, [role=slider]";
const PLAIN = ["ctrlKey", "altKey", "metaKey", "shiftKey"];

/** What can have the focus now; of choices that exclude each other the one that is chosen.
 * @param {HTMLElement} root @param {string} selector @returns {HTMLElement[]}
 */
const items = (root, selector, shown = false) => [.../** @type {NodeListOf<HTMLElement>} */ (root.querySelectorAll(selector))]
  .filter((one) => !one.closest("[hidden]") && !one.matches("[role=radio][aria-checked=false]") && (!shown || one.getClientRects().length));

/** Have one of these be the tab stop. @param {HTMLElement[]} all @param {HTMLElement | undefined} stop */
function settle(all, stop) {
  for (const one of all) {
    const index = one === stop ? 0 : -1;
    if (one.tabIndex !== index) one.tabIndex = index;
  }
}

/** @param {Event} event */
const typed = (event) => /** @type {HTMLElement} */ (event.target).matches("input[type=text], input[type=search], textarea");

/**
 * @param {HTMLElement} root
 * @param {{selector?: string, went?: (item: HTMLElement) => void, columns?: boolean, sideways?: boolean, shown?: boolean}} how went is told where
 *   the arrows have led; with columns they go four ways, by the cells of a table; sideways: left and right, not up and down;
 *   shown: only what is laid out now
 * @returns {() => void} to be called when what is in it has changed
 */
export function rove(root, { selector = ITEMS, went = () => {}, columns = false, sideways = false, shown = false } = {}) {
  const mine = () => items(root, selector, shown);
  const steps = sideways ? { ArrowRight: 1, ArrowLeft: -1 } : { ArrowDown: 1, ArrowUp: -1 };
  const keep = () => {
    const all = mine();
    const stop = all.find((one) => one.tabIndex === 0 && one.dataset.stop === "yes");
    settle(all, stop ?? all.find((one) => one.closest(".is-selected")) ?? all[0]); // until one has had the focus
  };
  const stopAt = (/** @type {HTMLElement} */ item) => {
    for (const one of mine()) delete one.dataset.stop;
    item.dataset.stop = "yes";
    settle(mine(), item);
  };
  root.addEventListener("focusin", (event) => {
    const item = mine().find((one) => one === event.target);
    if (item) stopAt(item);
  });
  root.addEventListener("keydown", (event) => {
    if (PLAIN.some((key) => event[key]) || typed(event)) return;
    const all = mine();
    const at = all.indexOf(/** @type {HTMLElement} */ (event.target));
    if (at < 0) return;
    const next = columns ? beside(all, at, event.key) : all[at + (steps[event.key] ?? NaN)];
    if (!next && (sideways || !["ArrowDown", "ArrowUp"].includes(event.key))) return;
    event.preventDefault(); // at an end too: a list would change its value, a slider step
    event.stopPropagation();
    if (!next) return;
    stopAt(next);
    next.focus();
    went(next);
  }, true);
  return keep;
}

/** The item that lies that way in a table. @param {HTMLElement[]} all @param {number} at @param {string} key */
function beside(all, at, key) {
  if (key === "ArrowLeft" || key === "ArrowRight") return all[at + (key === "ArrowLeft" ? -1 : 1)];
  if (key !== "ArrowUp" && key !== "ArrowDown") return undefined;
  const cell = /** @type {HTMLTableCellElement} */ (all[at].closest("td"));
  const row = /** @type {HTMLTableRowElement} */ (cell.parentElement);
  const other = /** @type {HTMLTableRowElement | null} */ (key === "ArrowUp" ? row.previousElementSibling : row.nextElementSibling);
  return other ? all.find((one) => one.closest("td") === other.cells[cell.cellIndex]) : undefined;
}
