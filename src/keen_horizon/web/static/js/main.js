// @ts-check
// Registers every component with Alpine and starts it. Components hold state; views draw.
import Alpine from "../vendor/alpinejs/alpine.js";
import { bench, versionsBar } from "./components/bench.js";
import { connection } from "./components/connection.js";
import { jobCount, jobs } from "./components/jobs.js";
import { lenses } from "./components/lenses.js";
import { newProject, shelf } from "./components/shelf.js";
import { sphere } from "./components/sphere.js";
import { typed } from "./typed.js";

for (const [name, component] of Object.entries({ bench, versionsBar, connection, jobCount, jobs, lenses, newProject, shelf, sphere })) {
  Alpine.data(name, component);
}
Alpine.directive("typed", typed);
Alpine.start();

// Every component listens now. Once that is painted too, the page says so: Chromium drops keys pressed before.
requestAnimationFrame(() => requestAnimationFrame(() => {
  document.documentElement.dataset.ready = "yes";
  document.body.removeAttribute("aria-busy");
}));
