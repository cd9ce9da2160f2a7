/** Runs once when the web server starts, before it answers anything. */
export async function register(): Promise<void> {
  if (process.env.NEXT_RUNTIME !== "nodejs") return;
  const { prepareWebProcess } = await import("./server/web-process");
  prepareWebProcess();
}
