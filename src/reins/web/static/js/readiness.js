// Says quietly how far the server's compiling is, until all is there; asked for by pages that are shown before that.

const AGAIN_MS = 1000;

/** @param {HTMLElement} place */
async function follow(place) {
  for (;;) {
    const told = await fetch("/api/ready").then((answer) => answer.json()).catch(() => null);
    if (told) {
      place.textContent = told.problem || `getting ready, ${told.done} of ${told.total}`;
      place.hidden = told.done === told.total;
      if (place.hidden || told.problem) return;
    }
    await new Promise((resolve) => setTimeout(resolve, AGAIN_MS));
  }
}

const place = document.getElementById("readiness");
if (place) follow(place);
