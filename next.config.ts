import type { NextConfig } from "next";

process.env.NEXT_TELEMETRY_DISABLED = "1";

const config: NextConfig = {
  serverExternalPackages: ["pg", "pino", "sharp", "mammoth", "iconv-lite", "sql.js", "read-excel-file", "exifr", "pdfkit", "fontkit"],
  poweredByHeader: false,
  devIndicators: false,
  async headers() {
    // Everything comes from this server; nothing may be framed, and nothing is fetched from elsewhere.
    const policy =
      "default-src 'self'; img-src 'self' blob: data:; style-src 'self' 'unsafe-inline'; script-src 'self' 'unsafe-inline'; font-src 'self'; connect-src 'self'; object-src 'none'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'";
    const always = [
      { key: "X-Content-Type-Options", value: "nosniff" },
      { key: "Referrer-Policy", value: "no-referrer" },
      { key: "Cross-Origin-Resource-Policy", value: "same-origin" },
      { key: "Cross-Origin-Opener-Policy", value: "same-origin" },
    ];
    return [
      { source: "/:path*", headers: always },
      // Routes give a policy of their own (server/respond.ts), which this one would replace.
      { source: "/((?!api/).*)", headers: [{ key: "Content-Security-Policy", value: policy }] },
    ];
  },
};

export default config;
