/** Recovery codes that were given and not read yet: with the first second factor the page is built again around them. */
export const unread: { codes: string[] } = { codes: [] };

/** Forgets codes that were not read: somebody else may sign in here. */
export const forgetCodes = () => {
  unread.codes = [];
};
