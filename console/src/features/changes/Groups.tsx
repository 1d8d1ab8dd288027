import { Collapse, Typography, theme } from "antd";
import type { ReactNode } from "react";
import type { DiffGroup } from "../../lib/documents";
import { markColour } from "../../lib/theme";

const markOf = { added: "+", removed: "−", changed: "~", moved: "↕" } as const;

/** A large difference: like changes together, every line one click away. */
export function Groups({ groups, children }: { groups: DiffGroup[]; children: ReactNode }) {
  const { token } = theme.useToken();
  return (
    <>
      <div role="list" aria-label="like changes together">
        {groups.map((g) => {
          const mark = g.kind === "within" ? "~" : markOf[g.kind];
          return (
            <div role="listitem" key={g.kind + g.place + (g.old ?? "") + (g.new ?? "")} style={{ marginBottom: 6 }}>
              <span style={{ color: markColour(mark, token.colorBgContainer), fontWeight: 700 }}>
                {mark} {g.count}×
              </span>{" "}
              <code>{g.place}</code>
              {g.kind === "changed" && g.new !== undefined ? (
                <>
                  : <code>{g.old}</code> → <code>{g.new}</code>
                </>
              ) : (
                (g.new ?? g.old) !== undefined && (
                  <>
                    : <code>{g.new ?? g.old}</code>
                  </>
                )
              )}
              {g.count > 1 && (
                <div style={{ paddingLeft: 24 }}>
                  <Typography.Text type="secondary">
                    {g.examples.join(", ")}
                    {g.count > g.examples.length && ", …"}
                  </Typography.Text>
                </div>
              )}
            </div>
          );
        })}
      </div>
      <Collapse ghost size="small" items={[{ key: "lines", label: "Line by line", children }]} />
    </>
  );
}
