// @ts-check
// The guide, shown beside the work: a page of it, what is looked for in it, and the place of a control.

import * as api from "../api.js";

/**
 * @param {import("./states.js").Kit} kit
 * @param {import("./states.js").States} state
 */
export const book = (kit, state) => ({
  open: false,
  left: false, // over the tracks, where it would cover what is worked on
  path: "",

  toggle() {
    if (this.open) return this.close();
    return this.show(this.path || "/guide");
  },
  /** Open a page of the guide, or a place on it. @param {string} path */
  async show(path) {
    const url = new URL(path, location.href);
    const page = await state.keeping.tried(() => api.guidePage(url.pathname + url.search));
    if (!page) return;
    if (!this.open) kit.bookCame = document.activeElement;
    Object.assign(this, { open: true, path: url.pathname + url.search });
    const sheet = kit.parts.booksheet;
    const read = new DOMParser().parseFromString(page, "text/html").querySelector("main");
    for (const name of ["src", "href"]) {
      for (const one of read?.querySelectorAll(`[${name}]`) ?? []) one.setAttribute(name, new URL(one.getAttribute(name) ?? "", url).href);
    }
    sheet.replaceChildren(...(read ? [...read.childNodes] : []));
    state.desk.$nextTick(() => {
      const place = url.hash && sheet.querySelector(`[id="${CSS.escape(decodeURIComponent(url.hash.slice(1)))}"]`);
      for (const other of sheet.querySelectorAll(".is-meant")) other.classList.remove("is-meant");
      if (place) place.classList.add("is-meant");
      if (place) place.scrollIntoView({ block: "center" });
      else sheet.scrollTop = 0;
    });
  },
  close() {
    this.open = false;
    kit.bookCame?.focus?.();
  },
  /** Open the place of the control that is pointed at or has the focus; without one, of the chosen processor. */
  help() {
    const control = document.querySelector(".bench [data-setting]:hover") ?? document.activeElement?.closest(".bench [data-setting]");
    const name = control instanceof HTMLElement ? control.dataset.setting?.replace(/\.\d+\./, ".") : "";
    return this.show(state.desk.kind ? `/guide/${state.desk.kind.type}${name ? `#set-${name}` : ""}` : "/guide");
  },
  /** Links stay in the panel where they lead within the guide, and at the desk where they lead to this session.
   * @param {MouseEvent} event
   */
  follow(event) {
    const link = /** @type {HTMLElement} */ (event.target).closest("a");
    if (!link || event.ctrlKey || event.metaKey || event.shiftKey) return;
    if (link.pathname.startsWith("/guide")) {
      event.preventDefault();
      this.show(link.href);
    } else if (link.pathname === location.pathname && link.hash) {
      event.preventDefault();
      state.transport.goThere(link.hash);
    } else link.target = "_blank"; // another session: this one stays open
  },
  /** @param {SubmitEvent} event */
  look(event) {
    event.preventDefault();
    const words = new FormData(/** @type {HTMLFormElement} */ (event.target)).get("words");
    this.show(`/guide?words=${encodeURIComponent(String(words))}`);
  },
});
