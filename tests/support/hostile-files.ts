import { crc32, deflateRawSync, deflateSync, gzipSync, constants as zlib } from "node:zlib";
import initSql from "sql.js";

/** A file that is made to slow down, fill up or crash what opens it. */
export interface HostileFile {
  readonly name: string;
  bytes(): Buffer | Promise<Buffer>;
}

interface Member {
  readonly name: string;
  readonly packed: Buffer;
  readonly plain: number;
  readonly crc?: number;
}

const stored = (name: string, text: string): Member => {
  const bytes = Buffer.from(text);
  return { name, packed: deflateRawSync(bytes), plain: bytes.length, crc: crc32(bytes) };
};

/** A ZIP archive (APPNOTE 6.3.10, 4.3) of members that may lie about their size, or all stand in one place. */
function zip(members: readonly Member[], options: { overlapping?: boolean } = {}): Buffer {
  const parts: Buffer[] = [];
  const list: Buffer[] = [];
  let at = 0;
  for (const [index, { name, packed, plain, crc = 0 }] of members.entries()) {
    const bytes = Buffer.from(name);
    if (!options.overlapping || index === 0) {
      const local = Buffer.alloc(30);
      local.writeUInt32LE(0x04034b50, 0);
      local.writeUInt16LE(20, 4);
      local.writeUInt16LE(8, 8);
      local.writeUInt32LE(crc, 14);
      local.writeUInt32LE(packed.length, 18);
      local.writeUInt32LE(plain, 22);
      local.writeUInt16LE(bytes.length, 26);
      parts.push(local, bytes, packed);
    }
    const entry = Buffer.alloc(46);
    entry.writeUInt32LE(0x02014b50, 0);
    entry.writeUInt16LE(20, 6);
    entry.writeUInt16LE(8, 10);
    entry.writeUInt32LE(crc, 16);
    entry.writeUInt32LE(packed.length, 20);
    entry.writeUInt32LE(plain, 24);
    entry.writeUInt16LE(bytes.length, 28);
    entry.writeUInt32LE(options.overlapping ? 0 : at, 42);
    list.push(entry, bytes);
    at += 30 + bytes.length + packed.length;
  }
  const end = Buffer.alloc(22);
  const [body, directory] = [Buffer.concat(parts), Buffer.concat(list)];
  end.writeUInt32LE(0x06054b50, 0);
  end.writeUInt16LE(members.length & 0xffff, 8);
  end.writeUInt16LE(members.length & 0xffff, 10);
  end.writeUInt32LE(directory.length, 12);
  end.writeUInt32LE(body.length, 16);
  return Buffer.concat([body, directory, end]);
}

const TYPES =
  '<?xml version="1.0"?><Types xmlns="http://schemas.openxmlformats.org/package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.relationships+xml"/><Default Extension="xml" ContentType="application/xml"/><Override PartName="/word/document.xml" ContentType="application/vnd.openxmlformats-officedocument.wordprocessingml.document.main+xml"/><Override PartName="/xl/workbook.xml" ContentType="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet.main+xml"/></Types>';
const relations = (target: string) =>
  `<?xml version="1.0"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="r1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/officeDocument" Target="${target}"/></Relationships>`;
const W = 'xmlns:w="http://schemas.openxmlformats.org/wordprocessingml/2006/main"';

/** A document with this main part (ECMA-376, part 1, 11). */
const docx = (main: Member | string, further: readonly Member[] = []) =>
  zip([
    stored("[Content_Types].xml", TYPES),
    stored("_rels/.rels", relations("word/document.xml")),
    typeof main === "string" ? stored("word/document.xml", main) : main,
    ...further,
  ]);
/** A workbook with this sheet (ECMA-376, part 1, 12 and 18). */
const xlsx = (sheet: string) =>
  zip([
    stored("[Content_Types].xml", TYPES),
    stored("_rels/.rels", relations("xl/workbook.xml")),
    stored(
      "xl/workbook.xml",
      '<?xml version="1.0"?><workbook xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main" xmlns:r="http://schemas.openxmlformats.org/officeDocument/2006/relationships"><sheets><sheet name="One" sheetId="1" r:id="rId1"/></sheets></workbook>',
    ),
    stored(
      "xl/_rels/workbook.xml.rels",
      '<?xml version="1.0"?><Relationships xmlns="http://schemas.openxmlformats.org/package/2006/relationships"><Relationship Id="rId1" Type="http://schemas.openxmlformats.org/officeDocument/2006/relationships/worksheet" Target="worksheets/sheet1.xml"/></Relationships>',
    ),
    stored("xl/worksheets/sheet1.xml", sheet),
  ]);
const openDocument = (type: string, content: string) =>
  zip([
    { name: "mimetype", packed: deflateRawSync(Buffer.from(type)), plain: type.length, crc: crc32(Buffer.from(type)) },
    stored("content.xml", content),
  ]);

/** DEFLATE data (RFC 1951) of `mebibytes` MiB of one byte: a block that stands alone, repeated, so that making it costs nothing. */
function deflated(mebibytes: number, byte = 0x20): Buffer {
  const block = deflateRawSync(Buffer.alloc(1 << 20, byte), { level: 9, finishFlush: zlib.Z_FULL_FLUSH });
  return Buffer.concat([...Array.from({ length: mebibytes }, () => block), deflateRawSync(Buffer.alloc(0))]);
}

/** An expansion of entities that doubles ten times ten times (XML 1.0, 4.4). */
const doubling = (element: string, reference: string) =>
  `<!DOCTYPE ${element} [<!ENTITY a "${"ha".repeat(100)}">${"bcdefghij"
    .split("")
    .map((name, i) => `<!ENTITY ${name} "${`&${"abcdefghi"[i]};`.repeat(10)}">`)
    .join("")}]>${reference}`;

function chunk(type: string, data: Buffer): Buffer {
  const head = Buffer.alloc(4);
  head.writeUInt32BE(data.length);
  const body = Buffer.concat([Buffer.from(type, "latin1"), data]);
  const sum = Buffer.alloc(4);
  sum.writeUInt32BE(crc32(body));
  return Buffer.concat([head, body, sum]);
}

/** A PNG picture of one colour (ISO/IEC 15948, 5), interlaced if wanted. */
function png(width: number, height: number, interlaced: boolean): Buffer {
  const header = Buffer.alloc(13);
  header.writeUInt32BE(width, 0);
  header.writeUInt32BE(height, 4);
  header.set([8, 6, 0, 0, interlaced ? 1 : 0], 8);
  // What the seven passes hold is about as much as the picture itself (8.2), and a filter byte a line.
  const plain = Math.ceil((width * height * 4 + height * 4) * (interlaced ? 1.01 : 1));
  const data = deflateSync(Buffer.alloc(Math.min(plain, 1 << 29)), { level: 1 });
  return Buffer.concat([
    Buffer.from("89504e470d0a1a0a", "hex"),
    chunk("IHDR", header),
    chunk("IDAT", data),
    chunk("IEND", Buffer.alloc(0)),
  ]);
}

/** A TAR header (POSIX.1-1988, ustar). */
function tarHeader(name: string, size: number): Buffer {
  const header = Buffer.alloc(512);
  header.write(name, 0);
  header.write("0000644\0", 100);
  header.write("0000000\0", 108);
  header.write("0000000\0", 116);
  header.write(`${size.toString(8).padStart(11, "0")}\0`, 124);
  header.write("00000000000\0", 136);
  header.write("        0ustar\u000000", 148);
  const sum = header.reduce((all, byte) => all + byte, 0);
  header.write(`${sum.toString(8).padStart(6, "0")}\0 `, 148);
  return header;
}

/** A database whose tree is a lattice: each page's children are all the same two pages of the next level (SQLite file format, 1.6). */
async function lattice(): Promise<Buffer> {
  const sql = await initSql();
  const database = new sql.Database();
  database.run("pragma page_size = 512; create table t (a text)");
  database.run(
    `insert into t with recursive n(i) as (select 1 union all select i + 1 from n where i < 3000) select printf('%0200d', i) from n`,
  );
  const bytes = Buffer.from(database.export());
  database.close();
  const pages = bytes.length / 512;
  const interior = (page: number) => bytes[(page - 1) * 512 + (page === 1 ? 100 : 0)] === 5;
  const inner = Array.from({ length: pages }, (_, i) => i + 1).filter(interior);
  // Every interior page points to another one, again and again: the way down never ends, or takes for ever.
  for (const [index, page] of inner.entries()) {
    const at = (page - 1) * 512 + (page === 1 ? 100 : 0);
    const next = inner[(index + 1) % inner.length] as number;
    for (let cell = 0; cell < bytes.readUInt16BE(at + 3); cell += 1)
      bytes.writeUInt32BE(next, (page - 1) * 512 + bytes.readUInt16BE(at + 12 + 2 * cell));
    bytes.writeUInt32BE(next, at + 8);
  }
  return bytes;
}

/**
 * A database with a column that is computed when it is read, and then takes gigabytes or for ever. The file is written with a harmless
 * number, which is exchanged in the stored text of the table: writing it would compute it.
 */
async function computed(expression: string, harmless: string, hostile: string): Promise<Buffer> {
  const sql = await initSql();
  const database = new sql.Database();
  database.run(`create table t (a integer, b generated always as (${expression.replace("N", harmless)}) virtual)`);
  database.run("insert into t (a) with recursive n(i) as (select 400 union all select i + 1 from n where i < 600) select i from n");
  const bytes = Buffer.from(database.export());
  database.close();
  const at = bytes.indexOf(harmless);
  bytes.write(hostile, at, "latin1");
  return bytes;
}

const deep = (open: string, close: string, depth: number, inside = "x") => open.repeat(depth) + inside + close.repeat(depth);

/**
 * Files that were made to stop a bench: the ten kinds it was attacked with, and more. All by script, from the published layouts named
 * at each.
 * @param long whether the largest ones are as large as they can be
 */
export function hostileFiles(long: boolean): HostileFile[] {
  const members = long ? 1_000_000 : 60_000;
  const bomb = long ? 8192 : 512;
  return [
    {
      name: "unpacks to a hundred gigabytes.docx",
      bytes: () =>
        docx(
          `<?xml version="1.0"?>${doubling("w:document", `<w:document ${W}><w:body><w:p><w:r><w:t>&j;&j;&j;&j;&j;</w:t></w:r></w:p></w:body></w:document>`)}`,
        ),
    },
    { name: "one long part.docx", bytes: () => docx({ name: "word/document.xml", packed: deflated(280), plain: 280 << 20 }) },
    { name: "says it is small.docx", bytes: () => docx({ name: "word/document.xml", packed: deflated(280), plain: 1000 }) },
    {
      name: "many parts in one place.docx",
      bytes: () =>
        zip(
          [
            ...Array.from({ length: 600 }, (_, i) => ({
              name: i === 0 ? "word/document.xml" : `word/media/${i}.xml`,
              packed: deflated(16),
              plain: 16 << 20,
            })),
          ],
          { overlapping: true },
        ),
    },
    {
      name: "far corner.xlsx",
      bytes: () =>
        xlsx(
          '<?xml version="1.0"?><worksheet xmlns="http://schemas.openxmlformats.org/spreadsheetml/2006/main"><dimension ref="A1:XFD1048576"/><sheetData><row r="1048576"><c r="XFD1048576" t="inlineStr"><is><t>far</t></is></c></row></sheetData></worksheet>',
        ),
    },
    {
      name: "never closed.odt",
      bytes: () => openDocument("application/vnd.oasis.opendocument.text", `<office:document-content><text:p>${"<a ".repeat(4_000_000)}`),
    },
    {
      name: "never closed.ods",
      bytes: () =>
        openDocument(
          "application/vnd.oasis.opendocument.spreadsheet",
          `<office:document-content>${'<table:table table:name="a"><table:table-row '.repeat(200_000)}`,
        ),
    },
    {
      name: "repeated for ever.ods",
      bytes: () =>
        openDocument(
          "application/vnd.oasis.opendocument.spreadsheet",
          `<?xml version="1.0"?><office:document-content xmlns:office="o" xmlns:table="t" xmlns:text="x"><office:body><office:spreadsheet><table:table table:name="All">${'<table:table-row table:number-rows-repeated="1048576"><table:table-cell table:number-columns-repeated="16384"><text:p>again</text:p></table:table-cell></table:table-row>'.repeat(2000)}</table:table></office:spreadsheet></office:body></office:document-content>`,
        ),
    },
    { name: "lattice.sqlite", bytes: lattice },
    { name: "generated column.sqlite", bytes: () => computed("hex(zeroblob(a * N))", "0000001", "1000000") },
    { name: "endless column.sqlite", bytes: () => computed("length(replace(hex(zeroblob(N)), '0', '00'))", "000000001", "200000000") },
    {
      name: "nested use.svg",
      bytes: () =>
        Buffer.from(
          `<svg xmlns="http://www.w3.org/2000/svg" xmlns:xlink="http://www.w3.org/1999/xlink"><defs><g id="g0"><rect width="9" height="9"/></g>${Array.from({ length: 30 }, (_, i) => `<g id="g${i + 1}">${`<use xlink:href="#g${i}"/>`.repeat(10)}</g>`).join("")}</defs><use xlink:href="#g30"/></svg>`,
        ),
    },
    { name: "interlaced.png", bytes: () => png(14_000, 14_000, true) },
    { name: "bomb.zip", bytes: () => zip([{ name: "zeros", packed: deflated(bomb), plain: 0xffff_fffe }]) },
    { name: "bomb.gz", bytes: () => Buffer.concat([Buffer.from("1f8b0800000000000203", "hex"), deflated(bomb), Buffer.alloc(8)]) },
    { name: "bomb.tar.gz", bytes: () => gzipSync(Buffer.concat([tarHeader("huge", 0o77777777777), Buffer.alloc(64 << 20)]), { level: 9 }) },
    {
      name: "a million members.zip",
      bytes: () => zip(Array.from({ length: members }, (_, i) => ({ name: `member ${i}`, packed: Buffer.from([3, 0]), plain: 0 }))),
    },
    {
      name: "nested deep.docx",
      bytes: () =>
        docx(
          `<?xml version="1.0"?><w:document ${W}><w:body>${deep("<w:sdt><w:sdtContent>", "</w:sdtContent></w:sdt>", 60_000, "<w:p><w:r><w:t>deep</w:t></w:r></w:p>")}</w:body></w:document>`,
        ),
    },
    { name: "nested deep.html", bytes: () => Buffer.from(`<!doctype html><html><body>${deep("<div>", "</div>", 300_000)}</body></html>`) },
    { name: "nested deep.rtf", bytes: () => Buffer.from(`{\\rtf1 ${deep("{\\b ", "}", 1_500_000)}}`) },
    {
      name: "parts within parts.eml",
      bytes: () =>
        Buffer.from(
          `From: a@example.org\nTo: b@example.org\nSubject: parts\nMIME-Version: 1.0\n${Array.from({ length: 20_000 }, (_, i) => `Content-Type: multipart/mixed; boundary="b${i}"\n\n--b${i}\n`).join("")}Content-Type: text/plain\n\nwords\n`,
        ),
    },
    {
      name: "headers without end.eml",
      bytes: () =>
        Buffer.from(
          `From: a@example.org\nTo: ${"b@example.org, ".repeat(1_000_000)}\nSubject: =?utf-8?q?${"=41".repeat(1_000_000)}?=\n\nwords\n`,
        ),
    },
    { name: "quote without end.csv", bytes: () => Buffer.from(`a;b;c\n"${"x;y\n".repeat(8_000_000)}`) },
    { name: "one line.csv", bytes: () => Buffer.from(`${"a,".repeat(12_000_000)}\nb\n`) },
    {
      name: "claims sixteen gigapixels.jpg",
      bytes: () =>
        Buffer.from(
          `ffd8ffdb004300${"01".repeat(64)}ffc2000b08ffffffff01011100ffc40014000100000000000000000000000000000000${"ffda0008010100000001".repeat(5000)}ffd9`,
          "hex",
        ),
    },
    {
      name: "frames without end.gif",
      bytes: () =>
        Buffer.concat([
          Buffer.from("474946383961ffffffff800000000000ffffff", "hex"),
          Buffer.concat(Array.from({ length: 20_000 }, () => Buffer.from("2c00000000ffffffff000202440100", "hex"))),
          Buffer.from("3b", "hex"),
        ]),
    },
    {
      name: "points to itself.tif",
      bytes: () => {
        const bytes = Buffer.alloc(4096);
        bytes.write("II*\0\u0008\0\0\0", 0, "latin1");
        bytes.writeUInt16LE(1, 8);
        bytes.writeUInt16LE(330, 10);
        bytes.writeUInt16LE(4, 12);
        bytes.writeUInt32LE(1, 14);
        bytes.writeUInt32LE(8, 18);
        bytes.writeUInt32LE(8, 22);
        return bytes;
      },
    },
    {
      name: "counts on more.xls",
      bytes: () =>
        Buffer.concat([
          Buffer.from("d0cf11e0a1b11ae1", "hex"),
          Buffer.alloc(16),
          Buffer.from("3e000300feff0900", "hex"),
          Buffer.alloc(12),
          Buffer.from("ffffff7f00000000ffffff7f", "hex"),
          Buffer.alloc(2000, 0xff),
        ]),
    },
    { name: "expands.xml", bytes: () => Buffer.from(doubling("r", "<r>&j;</r>")) },
    {
      name: "slides.pptx",
      bytes: () =>
        zip([
          stored(
            "[Content_Types].xml",
            TYPES.replaceAll("word/document.xml", "ppt/presentation.xml").replaceAll(
              "wordprocessingml.document",
              "presentationml.presentation",
            ),
          ),
          stored("ppt/presentation.xml", "<p:presentation/>"),
          ...Array.from({ length: 3000 }, (_, i) => ({
            name: `ppt/slides/slide${i}.xml`,
            packed: deflated(4, 0x3c),
            plain: 4 << 20,
          })).slice(0, long ? 3000 : 300),
        ]),
    },
  ];
}
