// Settings as the core declares them (core/story/settings.py): ranges and steps.
import { byId } from "./dom.js";

/** @type {Record<string, {low: number, high: number, step: number}>} */
const all = JSON.parse(byId("main").dataset.declared || "{}");

/** The range and the step of a setting. */
export const declared = (/** @type {string} */ name) => all[name];

/**
 * A value as near as the setting takes it: inside its range, at its step.
 * @type {(name: string, value: number) => number}
 */
export const within = (name, value) => {
  const { low, high, step } = all[name];
  return Number((Math.round(Math.min(high, Math.max(low, value)) / step) * step).toFixed(6));
};
