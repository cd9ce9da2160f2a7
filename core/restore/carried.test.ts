import { describe, expect, it } from "vitest";
import { parseAttributeDump, writeAttributeDump } from "./attribute-dump";
import { attributeName } from "./carried";

describe("extended attributes in text", () => {
  it("are written as getfattr and setfattr have them: names with octal numbers, values in base64 (getfattr(1), setfattr(1))", () => {
    const value = Buffer.from("a\0b");
    expect(writeAttributeDump([{ file: "a b", attributes: [{ name: "user.n=ä\n", value }] }])).toBe(
      "# file: a\\040b\nuser.n\\075\\303\\244\\012=0sYQBi\n\n",
    );
  });

  it("come back as they were, whatever stands in names and values", () => {
    const files = ["x", " ", "# file: y", "\\040", "日本 =\n#", "-d", "=0s"].map((file) => ({
      file,
      attributes: ["user.plain", "user.a b=c", "user.\\101", "user.ß\n\n# file: z"].map((name, index) => ({
        name,
        value: Buffer.from(Array.from({ length: index * 7 }, (_, at) => (at * 37) & 0xff)),
      })),
    }));
    // The tool gives bytes: characters beyond ASCII as they are.
    expect(parseAttributeDump(Buffer.from(writeAttributeDump(files)).toString("latin1"))).toEqual(files);
    expect(parseAttributeDump(Buffer.from("# file: bär\nuser.größe=0sMQ==\nuser.empty\n").toString("latin1"))).toEqual([
      {
        file: "bär",
        attributes: [
          { name: "user.größe", value: Buffer.from("1") },
          { name: "user.empty", value: Buffer.alloc(0) },
        ],
      },
    ]);
  });

  it("lines of another form are passed by", () => {
    for (const text of ["", "\n\n", "user.a=0sMQ==\n", "getfattr: x: No such file\n", "# file:\n=\n", "# file: a\nuser.a=0xff\n=0sMQ==\n"])
      expect(parseAttributeDump(text).flatMap(({ attributes }) => attributes)).toEqual([]);
  });
});

describe("named streams as attributes of a file", () => {
  it("are everybody's own ones, and never ones the system itself goes by", () => {
    expect(attributeName({ name: "Zone", size: 3 })).toBe("user.Zone");
    expect(attributeName({ name: "rsrc", size: 65_536 })).toBe("user.com.apple.ResourceFork");
    for (const name of ["security.capability", "system.posix_acl_access", "trusted.overlay.opaque"])
      expect(attributeName({ name, size: 1 })).toBe(`user.${name}`);
  });

  it("must not be longer than attributes may be (xattr(7): names of 255 bytes, values of 64 KiB)", () => {
    expect(attributeName({ name: "ä".repeat(125), size: 1 })).toHaveLength(130);
    expect(attributeName({ name: "ä".repeat(126), size: 1 })).toBeNull();
    expect(attributeName({ name: "a", size: 65_537 })).toBeNull();
    for (const name of ["", "a\0b"]) expect(attributeName({ name, size: 1 })).toBeNull();
  });
});
