// The sentence of help for what the pointer rests on or the keyboard has reached: anything that carries data-help.

const REST_MS = 350;
const GAP_PX = 6;

/** Show help on the whole page from now on. */
export function showHints() {
  const bubble = document.createElement("div");
  bubble.className = "hint";
  bubble.setAttribute("aria-hidden", "true"); // readers hear the same sentence as the description of the control
  bubble.hidden = true;
  document.body.append(bubble);
  let waiting = null;
  let moved = false; // since the last press: what a click puts under a resting pointer is not pointed at

  const hide = () => {
    clearTimeout(waiting);
    bubble.hidden = true;
  };
  const show = (place) => {
    bubble.textContent = place.dataset.help;
    bubble.hidden = false;
    const box = place.getBoundingClientRect();
    const { offsetWidth: width, offsetHeight: height } = bubble;
    const below = box.bottom + GAP_PX + height < innerHeight;
    bubble.style.left = `${Math.max(GAP_PX, Math.min(box.left, innerWidth - width - GAP_PX))}px`;
    bubble.style.top = `${below ? box.bottom + GAP_PX : box.top - GAP_PX - height}px`;
  };
  const carrier = (event) => event.target.closest?.("[data-help]");

  document.addEventListener("pointerover", (event) => {
    const place = carrier(event);
    hide();
    if (place && moved && !event.buttons) waiting = setTimeout(() => show(place), REST_MS);
  });
  document.addEventListener("focusin", (event) => {
    const place = carrier(event);
    if (place && event.target.matches(":focus-visible")) show(place);
  });
  document.addEventListener("pointermove", () => { moved = true; }, { passive: true });
  document.addEventListener("pointerdown", () => { moved = false; }, { passive: true });
  for (const end of ["focusout", "pointerdown", "wheel"]) document.addEventListener(end, hide, { passive: true });
}
