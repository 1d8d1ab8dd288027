import { ConfigProvider, Spin } from "antd";
import { useState } from "react";
import { Route, Routes } from "react-router";
import { AccessPage } from "./pages/AccessPage";
import { Audit } from "./pages/Audit";
import { ChangePage } from "./pages/ChangePage";
import { Changes } from "./pages/Changes";
import { CommitPage, CommitsPage } from "./pages/CommitsPage";
import { DevicePage } from "./pages/DevicePage";
import { Devices } from "./pages/Devices";
import { Now } from "./pages/Now";
import { OutsidePage } from "./pages/OutsidePage";
import { SafePage } from "./pages/SafePage";
import { SchedulePage } from "./pages/SchedulePage";
import { SignIn } from "./pages/SignIn";
import { SnapshotsPage } from "./pages/SnapshotsPage";
import { StencilsPage } from "./pages/StencilsPage";
import { Frame } from "./parts/Frame";
import { ShowAnew } from "./parts/SecondFactor";
import { Trouble } from "./parts/Trouble";
import { nonce } from "./nonce";
import { useLive, useSession } from "./queries";
import { dark, light } from "./theme";

const lookKey = "oaken-latch-look";

export function App() {
  const [look, setLook] = useState(() => localStorage.getItem(lookKey) ?? (window.matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light"));
  const session = useSession();
  useLive(Boolean(session.data));
  const choose = (l: string) => {
    localStorage.setItem(lookKey, l);
    setLook(l);
  };
  return (
    <ConfigProvider theme={look === "dark" ? dark : light} csp={{ nonce }}>
      {session.isPending && <Spin fullscreen />}
      <Trouble error={session.error} />
      {session.data === null && <SignIn />}
      {session.data && <ShowAnew />}
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
            <Route path="devices" element={<Devices />} />
            <Route path="devices/:name" element={<DevicePage session={session.data} />} />
            <Route path="schedule" element={<SchedulePage session={session.data} />} />
            <Route path="stencils" element={<StencilsPage session={session.data} />} />
            <Route path="snapshots" element={<SnapshotsPage session={session.data} />} />
            <Route path="safe" element={<SafePage session={session.data} />} />
            <Route path="audit" element={<Audit session={session.data} />} />
            <Route path="access" element={<AccessPage session={session.data} />} />
            <Route path="*" element={<Trouble error={new Error("There is no such page.")} />} />
          </Route>
        </Routes>
      )}
    </ConfigProvider>
  );
}
