import { expect, it } from "vitest";
import { ABSENCE_WORDS } from "../../core/copies/vocabulary";
import { ABSENCES } from "../../core/filesystems/file-record";
import { problemOf } from "./planned";

it("a copy whose content cannot be read is never written, also when its size is 0; an empty file is", () => {
  for (const absent of ABSENCES)
    for (const size of [0, 10]) expect(problemOf({ condition: "not-checked", readable: false, size, absent })).toBe(ABSENCE_WORDS[absent]);
  expect(problemOf({ condition: "whole", readable: false, size: 0, absent: null })).toBeNull();
  expect(problemOf({ condition: "whole", readable: true, size: 10, absent: null })).toBeNull();
  expect(problemOf({ condition: "name-only", readable: true, size: 10, absent: null })).toContain("Nothing");
});
