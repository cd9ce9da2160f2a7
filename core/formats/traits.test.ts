import { expect, it } from "vitest";
import { FORMATS } from "./registry";
import { formatsWithTraits, traitsOf } from "./traits";

it("only formats that there are have traits, and families are those that are distinguished inside", () => {
  const ids = FORMATS.map(({ id }) => id);
  expect(formatsWithTraits().filter((id) => !ids.includes(id))).toEqual([]);
  for (const format of FORMATS) if (format.resolve) expect(traitsOf(format).family, format.id).toBeDefined();
});
