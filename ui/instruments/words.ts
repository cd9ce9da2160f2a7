/** The words of the screen are those of the handover: one place for both. */
export * from "@/server/words/contract";
