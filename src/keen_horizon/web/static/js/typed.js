// @ts-check
// `x-typed="figure()"` shows a figure in a field as `:value` does, but leaves alone what is being typed: an answer that
// arrives meanwhile would put the old figure back, and the new one would be lost.

/**
 * @typedef {object} Reactivity what Alpine hands to a directive
 * @property {(expression: string) => (shown: (value: unknown) => void) => void} evaluateLater
 * @property {(run: () => void) => void} effect
 */

/** @param {HTMLInputElement} field @param {{ expression: string }} told @param {Reactivity} reactivity */
export function typed(field, { expression }, { evaluateLater, effect }) {
  const read = evaluateLater(expression);
  let typing = false;
  const show = () => read((figure) => {
    const text = figure === null || figure === undefined ? "" : String(figure);
    if (!typing && field.value !== text) field.value = text;
  });
  const end = () => {
    if (!typing) return;
    typing = false;
    setTimeout(show); // what was typed may not have been taken as it was
  };
  field.addEventListener("input", () => (typing = true));
  field.addEventListener("change", end);
  field.addEventListener("blur", end);
  effect(show);
}
