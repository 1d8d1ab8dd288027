/** What style sheets made here carry, so that the page takes them (Content-Security-Policy). */
export const nonce = document.querySelector<HTMLMetaElement>("meta[name=nonce]")?.content ?? "";
