// @ts-check

/** Plain values, deeply copied, also out of a component's proxies. @param {any} value @returns {any} */
export const copy = (value) => JSON.parse(JSON.stringify(value));
