/** Colours of the canvas, read from the tokens of the look. */

import { type Shape } from "../geometry";
export interface Palette {
  ground: string;
  surface: string;
  ink: string;
  ink2: string;
  rule: string;
  ruleStrong: string;
  closed: string;
  barn: string;
  hay: string;
  slate: string;
  sage: string;
  ochre: string;
  plum: string;
}

export function paletteOf(element: Element): Palette {
  const style = getComputedStyle(element);
  const one = (name: string) => style.getPropertyValue(name).trim();
  return {
    ground: one("--ground"),
    surface: one("--surface"),
    ink: one("--ink"),
    ink2: one("--ink-2"),
    rule: one("--rule"),
    ruleStrong: one("--rule-strong"),
    closed: one("--closed"),
    barn: one("--barn"),
    hay: one("--hay"),
    slate: one("--slate"),
    sage: one("--sage"),
    ochre: one("--ochre"),
    plum: one("--plum"),
  };
}

export const hueOf = (shape: Shape, palette: Palette): string =>
  ({
    full: palette.slate,
    synthetic: palette.slate,
    incremental: palette.sage,
    differential: palette.ochre,
  })[shape];
