import { Tooltip, theme } from "antd";
import { Link } from "react-router";
import type { Device } from "../../lib/documents";
import { stateOf } from "./state";

/** How many devices of a site are drawn; the rest is counted. */
const most = 60;

/** The fleet site by site: a square a device, its state by mark and colour. The table below says the same in words. */
export function SiteMap({ devices }: { devices: Device[] }) {
  const { token } = theme.useToken();
  const sites = new Map<string, Device[]>();
  for (const d of devices) {
    const list = sites.get(d.site ?? "") ?? [];
    list.push(d);
    sites.set(d.site ?? "", list);
  }
  if (devices.length === 0) return null;
  const colours = { bad: token.colorError, busy: token.colorWarning, fine: token.colorPrimary };
  return (
    <ul
      aria-label="sites"
      style={{ display: "flex", flexWrap: "wrap", gap: 12, listStyle: "none", margin: "12px 0", padding: 0 }}
    >
      {[...sites].map(([site, list]) => {
        const off = list.filter((d) => stateOf(d).kind !== "fine").length;
        return (
          <li
            key={site}
            style={{
              background: token.colorBgContainer,
              border: `1px solid ${off > 0 ? token.colorWarning : token.colorBorder}`,
              borderRadius: 6,
              padding: "8px 12px",
              minWidth: 130,
              maxWidth: 420,
            }}
          >
            <strong>{site || "no site"}</strong>{" "}
            <span style={{ color: token.colorTextSecondary }}>
              {list.length} {list.length === 1 ? "device" : "devices"}
              {off > 0 ? `, ${String(off)} to look at` : ", all OK"}
            </span>
            <div style={{ display: "flex", flexWrap: "wrap", gap: 4, marginTop: 6 }}>
              {list.slice(0, most).map((d) => {
                const s = stateOf(d);
                return (
                  <Tooltip key={d.name} title={`${d.name}: ${s.text}`}>
                    <Link
                      to={`/devices/${d.name}`}
                      aria-label={`${s.mark} ${d.name}: ${s.text}`}
                      style={{
                        width: 26,
                        height: 26,
                        lineHeight: "24px",
                        textAlign: "center",
                        textDecoration: "none",
                        fontWeight: 700,
                        borderRadius: 4,
                        border: `2px solid ${colours[s.kind]}`,
                        color: colours[s.kind],
                      }}
                    >
                      {s.mark}
                    </Link>
                  </Tooltip>
                );
              })}
              {list.length > most && <span>and {list.length - most} more</span>}
            </div>
          </li>
        );
      })}
    </ul>
  );
}
