import * as compound from "cfb";
import { strToU8 } from "fflate";
import { describe, expect, it } from "vitest";
import { DOCX, DWG, XLSX } from "../../tests/support/placed-files";
import { MemorySource } from "../bytes/byte-source";
import { rightName } from "./right-name";
import { SHIPPED_RULES } from "./rules";

describe("right names", () => {
  const named = (rule: string, name: string, content: Uint8Array | null) =>
    rightName(name, SHIPPED_RULES.find((each) => each.id === rule)?.naming ?? { extension: "keep" }, content && new MemorySource(content))
      .name;

  it.each([
    ["autorecovery-copies", "AutoRecovery save of Report", DOCX, "Report.docx"],
    ["autorecovery-copies", "AutoRecovery save of Report.asd", DOCX, "Report.docx"],
    ["autorecovery-copies", "AutoRecovery save of Harvest plan.docx", DOCX, "Harvest plan.docx"],
    ["autorecovery-copies", "AutoRecovery save of Costs", XLSX, "Costs.xlsx"],
    ["autosave-extension", "Backup of Letter.wbk", DOCX, "Letter.docx"],
    ["drawing-autosave", "Pump house_1_1_8842.sv$", DWG, "Pump house.dwg"],
    ["drawing-autosave", "Pump house_1_1_8842.sv$", strToU8("no drawing at all"), "Pump house_1_1_8842.sv$"],
    ["drawing-backup", "Pump house.bak", DWG, "Pump house.dwg"],
    ["drawing-backup", "settings.json.bak", strToU8("{}"), "settings.json"],
    ["drawing-backup", "Report.docx.old", DOCX, "Report.docx"],
    ["editor-session", "new 3@2026-03-01_174502", strToU8("words"), "new 3"],
    ["editor-session", "list.md@2026-03-01_174502", strToU8("words"), "list.md"],
    ["office-temporary", "~WRL0001.tmp", DOCX, "~WRL0001.docx"],
    ["unsaved-files", "Funding application((Unsaved-3085)).asd", DOCX, "Funding application.docx"],
    ["found-clusters", "FILE0000.CHK", XLSX, "FILE0000.xlsx"],
    ["tilde-backup", "notes.txt~", strToU8("words"), "notes.txt"],
    ["tilde-backup", "notes.txt.~12~", strToU8("words"), "notes.txt"],
    ["mac-autosave-information", "Letter (Autosaved).rtf", strToU8("{\\rtf1 x}"), "Letter.rtf"],
  ] as const)("%s: %s", (rule, name, content, right) => {
    expect(named(rule, name, content)).toBe(right);
  });

  it("an older office document is described by the streams in it", () => {
    const file = compound.utils.cfb_new();
    compound.utils.cfb_add(file, "WordDocument", Buffer.alloc(5000, 1));
    expect(
      named("autorecovery-copies", "AutoRecovery save of Old letter", new Uint8Array(compound.write(file, { type: "array" }) as number[])),
    ).toBe("Old letter.doc");
  });

  it("a session backup is dated by its name, and an impossible date is none", () => {
    const naming = SHIPPED_RULES.find((rule) => rule.id === "editor-session")?.naming ?? { extension: "keep" };
    expect(rightName("a@2026-03-01_174502", naming, null).dated).toBe(Date.UTC(2026, 2, 1, 17, 45, 2));
    expect(rightName("a@2026-13-41_994502", naming, null).dated).toBeNull();
  });
});
