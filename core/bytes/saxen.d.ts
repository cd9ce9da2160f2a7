/** The part of the XML parser that is used here; it has no types of its own. */
declare module "saxen" {
  export class Parser {
    on(
      event: "openTag",
      handler: (name: string, attributes: () => Record<string, string> | boolean, decode: (text: string) => string) => void,
    ): this;
    on(event: "closeTag", handler: (name: string) => void): this;
    on(event: "text", handler: (text: string, decode: (text: string) => string) => void): this;
    on(event: "cdata", handler: (text: string) => void): this;
    on(event: "error", handler: (error: Error) => void): this;
    parse(xml: string): this;
    stop(): this;
  }
}
