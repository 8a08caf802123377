// @ts-check
// Writes to the page only what has changed: an idle desk must cost nothing.

/** @param {HTMLElement} element @param {string} text */
export function putText(element, text) {
  if (element.textContent !== text) element.textContent = text;
}

/** @param {HTMLElement} element @param {string} property of its style @param {string} value */
export function putStyle(element, property, value) {
  if (element.style[property] !== value) element.style[property] = value;
}
