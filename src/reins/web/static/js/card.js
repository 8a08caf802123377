// @ts-check
// Whether a graphics card draws the page: then what moves may be drawn with every picture of the screen.

const SOFTWARE = /swiftshader|llvmpipe|software|basic render/i;

/** Asked once, when the page is made. */
export function hasCard() {
  const context = document.createElement("canvas").getContext("webgl", { failIfMajorPerformanceCaveat: true });
  if (!context) return false;
  const named = context.getExtension("WEBGL_debug_renderer_info");
  const name = String(context.getParameter(named ? named.UNMASKED_RENDERER_WEBGL : context.RENDERER));
  context.getExtension("WEBGL_lose_context")?.loseContext();
  return !SOFTWARE.test(name);
}
