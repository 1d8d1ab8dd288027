export const devicePath = (name: string) => `/devices/${encodeURIComponent(name)}`;
