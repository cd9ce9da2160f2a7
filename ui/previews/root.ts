"use client";

import { createContext, useContext } from "react";

/** Where the contents of copies are asked for: the bench's own address, or that of a shared link. */
export const PreviewRoot = createContext("/api/copies");
export const usePreviewRoot = () => useContext(PreviewRoot);
