"use client";

import { Fragment } from "react";
import type { Block, Handover } from "@/server/handover/contract";
import styles from "./handover.module.css";

/** A handover as a page of text. */
export function HandoverArticle({ page }: { page: Handover }) {
  return (
    <article className={styles.page}>
      <h2>{page.title}</h2>
      {page.lead.map((line) => (
        <p key={line} className={styles.soft}>
          {line}
        </p>
      ))}
      {page.sections.map((section) => (
        <Fragment key={section.title}>
          <h3>{section.title}</h3>
          {section.blocks.map((block, index) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: a page of text has no other order, and is never edited
            <BlockView key={index} block={block} />
          ))}
        </Fragment>
      ))}
    </article>
  );
}

function BlockView({ block }: { block: Block }) {
  if (block.kind === "text") return <p>{block.text}</p>;
  if (block.kind === "signature")
    return (
      <div className={styles.signature}>
        {block.lines.map((line) => (
          <span key={line}>{line}</span>
        ))}
      </div>
    );
  if (block.kind === "list")
    return (
      <ul>
        {block.items.map((item, index) => (
          // biome-ignore lint/suspicious/noArrayIndexKey: two lines may be the same, and they are never edited
          <li key={index}>
            {item.text}
            {item.below.length > 0 && (
              <ul>
                {item.below.map((line) => (
                  <li key={line}>{line}</li>
                ))}
              </ul>
            )}
          </li>
        ))}
      </ul>
    );
  return (
    <>
      <table className={styles.table}>
        <thead>
          <tr>
            {block.head.map((title) => (
              <th key={title}>{title}</th>
            ))}
          </tr>
        </thead>
        <tbody>
          {block.rows.map((cells, index) => (
            // biome-ignore lint/suspicious/noArrayIndexKey: two rows may be the same, and they are never edited
            <tr key={index}>
              {cells.map((cell, column) => (
                <td key={block.head[column]}>{cell}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
      {block.cut && <p className={styles.soft}>{block.cut}</p>}
    </>
  );
}
