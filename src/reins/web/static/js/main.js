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
Alpine.start();
