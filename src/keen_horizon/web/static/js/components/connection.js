// @ts-check
// What does not answer, said over every page until it does.
import { watchConnection } from "../net.js";

const TEXTS = {
  "": "",
  server: "The server does not answer. Nothing was lost; this page goes on when it is back.",
  database: "The database does not answer. Nothing was lost; this page goes on when it is back.",
  session: "Your session has ended. Nothing was lost; sign in again in another window, and this page goes on.",
};

export const connection = () => ({
  away: "",
  init() {
    watchConnection((away) => (this.away = away));
  },
  text() {
    return TEXTS[/** @type {keyof typeof TEXTS} */ (this.away)];
  },
});
