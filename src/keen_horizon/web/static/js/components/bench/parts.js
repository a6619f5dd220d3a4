// @ts-check
// What the parts of the bench share besides its state: the page's data and the mounted views.

/**
 * @typedef {object} Parts
 * @property {any} page data the page was made with
 * @property {string} address of the clip's API
 * @property {{ width: number, height: number }} size display size of the clip
 * @property {Record<string, any>} refs the page's elements, found once: an element that is being removed finds none
 * @property {any} viewer @property {any} overlay @property {any} strip @property {any} player @property {any} tradeChart
 */

/** @param {any} page @returns {Parts} */
export function partsOf(page) {
  const size = { width: page.info.width, height: page.info.height };
  return { page, address: `/api/clips/${page.id}`, size, refs: {}, viewer: null, overlay: null, strip: null, player: null, tradeChart: null };
}
