import { Alert, Button, ConfigProvider, Flex, Segmented, Spin, Typography, theme } from "antd";
import { Suspense } from "react";
import { NavLink, Outlet } from "react-router";
import type { Session } from "../lib/documents";
import { useAct } from "../lib/query";
import { useAttention } from "../features/now/queries";
import { answer, api } from "../lib/api";
import { page } from "../parts/page";
import { Others } from "../features/access/Others";
import { may } from "../lib/may";
import { useLost } from "../lib/contact";
import { when } from "../lib/time";

const HoldBar = page(() => import("../features/changes/HoldBar").then((m) => m.HoldBar));

const places = [
  { to: "/", label: "Now" },
  { to: "/changes", label: "Changes" },
  { to: "/commits", label: "Commits" },
  { to: "/devices", label: "Devices" },
  { to: "/outside", label: "Outside" },
  { to: "/stencils", label: "Stencils" },
  { to: "/schedule", label: "Schedule" },
  { to: "/snapshots", label: "Snapshots" },
  { to: "/backups", label: "Backups" },
  { to: "/audit", label: "Audit" },
  { to: "/access", label: "Access" },
];

/** Every page's frame: the board at the top, the page, the holds at the foot. */
export function Frame({ session, look, setLook }: { session: Session; look: string; setLook: (l: string) => void }) {
  const { token } = theme.useToken();
  const attention = useAttention();
  const lost = useLost();
  const out = useAct(() => answer(api.POST("/logout")));
  return (
    <Flex vertical style={{ minHeight: "100vh", background: token.colorBgLayout }}>
      <Flex
        component="header"
        align="center"
        gap={14}
        style={{
          background: "#43301f",
          color: "#f3e7d3",
          padding: "0 24px",
          height: 52,
          borderBottom: "3px solid #c79a55",
        }}
      >
        <Flex align="center" gap={10}>
          <img src="/latch.svg" alt="" width={26} height={26} />
          <Typography.Text strong style={{ color: "#f3e7d3", fontSize: 16, whiteSpace: "nowrap" }}>
            Oaken Latch
          </Typography.Text>
        </Flex>
        <Flex component="nav" gap={2} style={{ flex: 1 }} aria-label="places">
          {places.map((p) => (
            <NavLink
              key={p.to}
              to={p.to}
              end={p.to === "/"}
              style={({ isActive }) => ({
                color: "#f3e7d3",
                padding: "6px 9px",
                fontSize: 14,
                borderRadius: 4,
                background: isActive ? "#6b4d31" : "transparent",
                textDecoration: "none",
              })}
            >
              {p.label}
            </NavLink>
          ))}
        </Flex>
        <Segmented size="small" value={look} onChange={setLook} options={["light", "dark"]} aria-label="look" />
        <span
          title={`${session.account} may: ${session.may.join(" ")}`}
          style={{ whiteSpace: "nowrap", maxWidth: 110, overflow: "hidden", textOverflow: "ellipsis" }}
        >
          {session.account}
        </span>
        <Button
          size="small"
          onClick={() => {
            out.mutate(undefined);
          }}
        >
          Sign out
        </Button>
      </Flex>
      {lost && (
        <div style={{ position: "sticky", top: 0, zIndex: 20 }}>
          <Alert
            banner
            type="error"
            role="alert"
            title={`No contact with the service since ${when(lost.toISOString())}`}
            description="What is shown is as it was then. Nothing can be changed here until the service answers. Commits on hold are reverted at their time by their devices, or by the service, unless somebody confirmed them."
          />
        </div>
      )}
      <ConfigProvider componentDisabled={lost !== undefined}>
        <main
          style={{
            flex: 1,
            padding: "20px 24px",
            maxWidth: 1500,
            width: "100%",
            margin: "0 auto",
            boxSizing: "border-box",
          }}
        >
          {attention.data?.records && (
            <Alert
              type="error"
              showIcon
              style={{ marginBottom: 16 }}
              title="Nothing new can be begun: the records cannot be written"
              description={attention.data.records}
            />
          )}
          <Others />
          <Suspense fallback={<Spin style={{ display: "block", margin: "64px auto" }} />}>
            <Outlet />
          </Suspense>
        </main>
        <div style={{ position: "sticky", bottom: 0, zIndex: 5 }}>
          <Suspense fallback={null}>
            {attention.data?.holding.map((c) => (
              <HoldBar
                key={c.number}
                change={c}
                mayDecide={
                  may(session, "administer") ||
                  session.account === c.author ||
                  (c.coworkers ?? []).includes(session.account)
                }
              />
            ))}
          </Suspense>
        </div>
      </ConfigProvider>
    </Flex>
  );
}
