import { raw, value, type Schemas } from "../api/client";
import { ask } from "../api/query";

const sent = {
  bodySerializer: (body: unknown) => body as Blob,
  headers: { "Content-Type": "application/x-tar" },
};

export const bundlesCalls = {
  make: async (body: Schemas["NewBundle"]) =>
    (await value(raw.POST("/api/v1/bundles", { body, parseAs: "blob" }))) as unknown as Blob,
  plan: async (file: File, to: string) =>
    value(
      raw.POST("/api/v1/bundles/plans", {
        params: { query: { to: to ? [to] : undefined } },
        body: (await head(file)) as unknown as string,
        ...sent,
      }),
    ),
  load: (file: File, to: string) =>
    value(
      raw.POST("/api/v1/bundles/loads", {
        params: { query: { to: to ? [to] : undefined } },
        body: file as unknown as string,
        ...sent,
      }),
    ),
};

export const bundlesQueries = {
  bundles: () => ask(["bundles"], { bundle: true }, (signal) => value(raw.GET("/api/v1/bundles", { signal }))),
};

/** head is the beginning of a bundle, in which it says what it holds, and by whom it is signed. */
async function head(file: File): Promise<Blob> {
  let end = 0;
  for (let member = 0; member < 2; member++) {
    const header = await file.slice(end, end + 512).text();
    const size = parseInt(header.slice(124, 136), 8);
    // What is no tar the server calls so.
    end += 512 + Math.ceil((Number.isFinite(size) ? size : 0) / 512) * 512;
  }
  return file.slice(0, end);
}
