import { expect, it } from "vitest";
import type { ItemDetail } from "@/server/items/contract";
import { copiesLeftOut, isUnsized, openedCopy, sizeText } from "./rows";

const item = (copies: number, ...ids: number[]) => ({ copies, list: ids.map((id) => ({ id })) }) as unknown as ItemDetail;
const at = (copy: string) => new URLSearchParams({ copy });

it("opens the named copy, and of an item that came with all of its copies the best where the name says nothing", () => {
  expect(openedCopy(item(3, 7, 8, 9), at("9"))?.id).toBe(9);
  expect(openedCopy(item(3, 7, 8, 9), new URLSearchParams())?.id).toBe(7);
  expect(openedCopy(item(3, 7, 8, 9), at("1"))?.id).toBe(7);
});

it("opens no other copy in the place of one that has not come", () => {
  expect(openedCopy(item(900, 7, 8, 9), at("1"))).toBeUndefined();
  expect(openedCopy(item(900, 7, 8, 9), at("8"))?.id).toBe(8);
  expect(openedCopy(item(900, 7, 8, 9), at("held"))?.id).toBe(7);
  expect(copiesLeftOut(item(900, 7, 8, 9), ["1", "8", null, "held", "2"])).toEqual(["1", "2"]);
});

it("knows a file of no bytes from one of which nothing says how long it is", () => {
  expect(isUnsized({ condition: "whole", size: 0 })).toBe(false);
  expect(isUnsized({ condition: "not-checked", size: 0 })).toBe(true);
  expect(isUnsized({ condition: "name-only", size: 0 })).toBe(true);
  expect(isUnsized({ condition: "not-checked", size: 12 })).toBe(false);
  expect([0, 12].map((size) => sizeText({ condition: "not-checked", size }))).toEqual(["size not known", "12 B"]);
});
