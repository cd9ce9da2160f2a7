import { describe, expect, it } from "vitest";
import { searchWords } from "./filter";

describe("the words of a search", () => {
  it.each([
    ["night log", ["night", "log"]],
    ['"night log" 7', ["night log", "7"]],
    // While the closing quote is still to be typed.
    ['"night lo', ["night lo"]],
    ['"', []],
    ['a"b c"d', ["a", "b c", "d"]],
    ["  .docx  ", [".docx"]],
    ["", []],
  ])("%j are %j", (query, words) => {
    expect(searchWords(query)).toEqual(words);
  });
});
