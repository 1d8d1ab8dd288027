/** What style sheets made here carry, so that the page takes them (Content-Security-Policy). */
export const nonce = document.querySelector<HTMLMetaElement>("meta[name=nonce]")?.content ?? "";

/**
 * Has each style sheet that a script of ours makes carry the nonce: some parts of the component library (what measures
 * scroll bars, what keeps a page from scrolling under a dialog) cannot be told it.
 */
export function lendNonce() {
  const make = document.createElement.bind(document) as (tag: string, options?: ElementCreationOptions) => HTMLElement;
  document.createElement = ((tag: string, options?: ElementCreationOptions) => {
    const made = make(tag, options);
    if (tag === "style") made.nonce = nonce;
    return made;
  }) as typeof document.createElement;
}
