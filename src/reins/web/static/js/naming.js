// @ts-check
// A name for a session of stems: what their names share.

const LEAST_LETTERS = 3;

/** The words of a file's name, without its ending. @param {string} name */
const words = (name) => name.replace(/\.[^.]+$/, "").split(/[\s_\-.]+/).filter(Boolean);

/** How many words names have in common from one end. @param {string[][]} names @param {(row: string[], k: number) => string | undefined} at */
function shared(names, at) {
  let count = 0;
  const same = (word) => names.every((row) => row.length > count + 1 && at(row, count)?.toLowerCase() === word?.toLowerCase());
  while (at(names[0], count) !== undefined && same(at(names[0], count))) count += 1;
  return count;
}

/**
 * What the names of several files share, from their beginnings or their ends; "" where that is nothing or they are one.
 * @param {string[]} files
 */
export function sharedName(files) {
  const names = files.map(words);
  if (names.length < 2 || names.some((row) => !row.length)) return "";
  const front = names[0].slice(0, shared(names, (row, k) => row[k]));
  const count = shared(names, (row, k) => row[row.length - 1 - k]);
  const back = names[0].slice(names[0].length - count);
  const found = [front, back].map((row) => row.join(" ").replace(/^\d+\s*/, "").trim());
  return found.find((one) => one.replace(/[^\p{L}]/gu, "").length >= LEAST_LETTERS) ?? "";
}

/** Of a day: “Session of 1 December”. @param {Date} day */
export const dayName = (day) => `Session of ${day.getDate()} ${day.toLocaleString("en", { month: "long" })}`;
