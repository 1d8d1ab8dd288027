import { ConfigProvider, Spin } from "antd";
import { Suspense, useEffect, useState } from "react";
import { Route, Routes } from "react-router";
import { Frame } from "./Frame";
import { NotFound } from "./NotFound";
import { page } from "../parts/page";
import { Trouble } from "../parts/Trouble";
import { nonce } from "../lib/nonce";
import { ShowAnew } from "../features/access/ShowAnew";
import { useLive } from "./live";
import { useSession } from "../features/access/queries";
import { dark, light } from "../lib/theme";

const SignIn = page(() => import("../features/access/SignIn").then((m) => m.SignIn));
const AccessPage = page(() => import("../features/access/AccessPage").then((m) => m.AccessPage));
const Audit = page(() => import("../features/record/Audit").then((m) => m.Audit));
const ChangePage = page(() => import("../features/changes/ChangePage").then((m) => m.ChangePage));
const Changes = page(() => import("../features/changes/Changes").then((m) => m.Changes));
const CommitPage = page(() => import("../features/record/CommitsPage").then((m) => m.CommitPage));
const CommitsPage = page(() => import("../features/record/CommitsPage").then((m) => m.CommitsPage));
const DevicePage = page(() => import("../features/devices/DevicePage").then((m) => m.DevicePage));
const Devices = page(() => import("../features/devices/Devices").then((m) => m.Devices));
const Now = page(() => import("../features/now/Now").then((m) => m.Now));
const OutsidePage = page(() => import("../features/outside/OutsidePage").then((m) => m.OutsidePage));
const BackupsPage = page(() => import("../features/copies/BackupsPage").then((m) => m.BackupsPage));
const SchedulePage = page(() => import("../features/schedule/SchedulePage").then((m) => m.SchedulePage));
const SnapshotsPage = page(() => import("../features/history/SnapshotsPage").then((m) => m.SnapshotsPage));
const StencilsPage = page(() => import("../features/stencils/StencilsPage").then((m) => m.StencilsPage));

const lookKey = "oaken-latch-look";

export function App() {
  const [look, setLook] = useState(
    () =>
      localStorage.getItem(lookKey) ?? (window.matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light"),
  );
  useEffect(() => {
    document.documentElement.dataset["look"] = look;
  }, [look]);
  const session = useSession();
  useLive(Boolean(session.data && !session.data.lacks));
  const choose = (l: string) => {
    localStorage.setItem(lookKey, l);
    setLook(l);
  };
  return (
    <ConfigProvider theme={look === "dark" ? dark : light} csp={{ nonce }}>
      {session.isPending && <Spin fullscreen />}
      <Trouble error={session.error} />
      <Suspense fallback={null}>
        {session.data === null && <SignIn />}
        {session.data && <ShowAnew />}
      </Suspense>
      {session.data?.lacks && (
        <Routes>
          <Route element={<Frame session={session.data} look={look} setLook={choose} />}>
            <Route path="*" element={<AccessPage session={session.data} />} />
          </Route>
        </Routes>
      )}
      {session.data && !session.data.lacks && (
        <Routes>
          <Route element={<Frame session={session.data} look={look} setLook={choose} />}>
            <Route index element={<Now />} />
            <Route path="changes" element={<Changes />} />
            <Route path="changes/:number" element={<ChangePage session={session.data} />} />
            <Route path="commits" element={<CommitsPage />} />
            <Route path="commits/:number" element={<CommitPage />} />
            <Route path="outside" element={<OutsidePage session={session.data} />} />
            <Route path="devices" element={<Devices session={session.data} />} />
            <Route path="devices/:name" element={<DevicePage session={session.data} />} />
            <Route path="schedule" element={<SchedulePage session={session.data} />} />
            <Route path="stencils" element={<StencilsPage session={session.data} />} />
            <Route path="snapshots" element={<SnapshotsPage session={session.data} />} />
            <Route path="backups" element={<BackupsPage session={session.data} />} />
            <Route path="audit" element={<Audit session={session.data} />} />
            <Route path="access" element={<AccessPage session={session.data} />} />
            <Route path="*" element={<NotFound />} />
          </Route>
        </Routes>
      )}
    </ConfigProvider>
  );
}
