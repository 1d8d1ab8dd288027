import { expect, it } from "vitest";

const files = import.meta.glob<string>("../**/*.{ts,tsx}", { query: "?raw", import: "default", eager: true });

/** The file that an import from another means; undefined where it is none of ours. */
function resolve(from: string, spec: string): string | undefined {
  if (!spec.startsWith(".")) return undefined;
  const parts = from.split("/").slice(0, -1);
  for (const p of spec.split("/")) {
    if (p === "..") parts.pop();
    else if (p !== ".") parts.push(p);
  }
  return [".ts", ".tsx", ".d.ts"].map((end) => parts.join("/") + end).find((name) => name in files);
}

const imports = new Map<string, string[]>();
for (const [name, text] of Object.entries(files)) {
  const from = `src/${name.replace(/^\.\.\//, "")}`;
  const specs = [...text.matchAll(/(?:from|import\() ?"(\.[^"]*)"/g)].map((m) => m[1] ?? "");
  imports.set(
    from,
    specs.flatMap((s) => {
      const to = resolve(name.startsWith("./") ? `../test/${name.slice(2)}` : name, s);
      return to === undefined ? [] : [`src/${to.replace(/^\.\.\//, "")}`];
    }),
  );
}

it("has no circle of imports", () => {
  const state = new Map<string, "open" | "done">();
  const circles: string[] = [];
  const visit = (file: string, path: string[]) => {
    if (state.get(file) === "done") return;
    if (state.get(file) === "open") {
      circles.push([...path.slice(path.indexOf(file)), file].join(" -> "));
      return;
    }
    state.set(file, "open");
    for (const to of imports.get(file) ?? []) visit(to, [...path, file]);
    state.set(file, "done");
  };
  for (const file of imports.keys()) visit(file, []);
  expect(circles).toEqual([]);
  expect([...imports.values()].flat().length).toBeGreaterThan(200);
});

it("knows no page from what all pages share", () => {
  for (const [file, to] of imports) {
    if (/^src\/(lib|parts)\//.test(file))
      expect(
        to.filter((t) => /^src\/(features|app)\//.test(t)),
        file,
      ).toEqual([]);
  }
});
