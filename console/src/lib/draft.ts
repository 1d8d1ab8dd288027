import { useState } from "react";

// What was typed and not sent yet. It is kept with the window until that is closed, for the person who typed it, so that
// leaving a page, loading it anew, or a session's end loses nothing; signing out drops it, and asks first.

let owner = "";

/** Says whose drafts are meant from now on. */
export const setDraftOwner = (account: string) => {
  owner = account;
};

const key = (name: string) => `oaken-latch-draft ${owner} ${name}`;

const own = () => Object.keys(sessionStorage).filter((k) => k.startsWith(key("")));

/** How many texts were typed and not sent. */
export const drafts = () => own().length;

/** Drops them. */
export const dropDrafts = () => {
  for (const k of own()) sessionStorage.removeItem(k);
};

/** What was typed under a name. */
export const draftOf = (name: string): string => sessionStorage.getItem(key(name)) ?? "";

/** Keeps what is typed under a name; "" is nothing. */
export const keepDraft = (name: string, text: string) => {
  if (text === "") sessionStorage.removeItem(key(name));
  else {
    try {
      sessionStorage.setItem(key(name), text);
    } catch {
      // It is too long to be kept; it stays in the page.
    }
  }
};

/** A text that is typed, kept under a name until it is emptied. */
export function useDraft(name: string): [string, (text: string) => void] {
  const [typed, setTyped] = useState({ name, text: draftOf(name) });
  if (typed.name !== name) setTyped({ name, text: draftOf(name) });
  return [
    typed.name === name ? typed.text : draftOf(name),
    (text) => {
      keepDraft(name, text);
      setTyped({ name, text });
    },
  ];
}

/** The fields of a form that are kept under a name. */
export const fieldsOf = <F extends object>(name: string): Partial<F> => {
  try {
    return JSON.parse(draftOf(name) || "{}") as Partial<F>;
  } catch {
    return {};
  }
};

/** Keeps the fields of a form; nothing where none is filled in. */
export const keepFields = (name: string, fields: object) => {
  const filled = Object.values(fields).some((v) => typeof v === "string" && v !== "");
  keepDraft(name, filled ? JSON.stringify(fields) : "");
};
