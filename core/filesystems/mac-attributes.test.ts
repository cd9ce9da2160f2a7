import { describe, expect, it } from "vitest";
import { describeUse, tellsOfUse } from "./mac-attributes";

describe("attributes that tell of a file's use", () => {
  it("say where it came from", () => {
    const list =
      '<?xml version="1.0"?><plist version="1.0"><array><string>https://fennmoor.example/minutes</string><string/></array></plist>';
    const name = "com.example.metadata:kMDItemWhereFroms";
    expect(tellsOfUse(name)).toBe(true);
    expect(describeUse(name, new TextEncoder().encode(list))).toBe("Downloaded or received from: https://fennmoor.example/minutes.");
    expect(describeUse(name, Uint8Array.of(1, 2, 3))).toBeNull();
  });

  it("say when it was last opened; a time no file can have is left out", () => {
    const bytes = new Uint8Array(16);
    new DataView(bytes.buffer).setBigUint64(0, 1_683_446_400n, true);
    expect(describeUse("com.example.lastuseddate#PS", bytes)).toBe("Last opened 2023-05-07 08:00 UTC, as the system noted.");
    new DataView(bytes.buffer).setBigUint64(0, 2n ** 60n, true);
    expect(describeUse("com.example.lastuseddate#PS", bytes)).toBeNull();
    expect(tellsOfUse("org.example.note")).toBe(false);
  });
});
