// Registers the components; the only module that knows Alpine.

import Alpine from "../vendor/alpine-csp-3.17.4.esm.min.js";
import { batch } from "./batch.js";
import { desk } from "./desk.js";
import { showHints } from "./hint.js";
import { shelf } from "./shelf.js";

const data = document.getElementById("desk-data");
if (data) Alpine.data("desk", desk(JSON.parse(data.textContent)));
Alpine.data("shelf", shelf);
Alpine.data("batch", batch);
showHints();
// After all who heard of it have taken what was chosen: the same file may be chosen again, and is told again.
document.addEventListener("change", ({ target }) => {
  if (target instanceof HTMLInputElement && target.type === "file") target.value = "";
});
Alpine.start();
