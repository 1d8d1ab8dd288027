import { Button, Drawer, Flex, Modal } from "antd";
import type { ReactNode } from "react";
import { NavLink } from "react-router";
import type { Place } from "./places";

interface Props {
  account: string;
  places: Place[];
  look: ReactNode;
  signOut: () => void;
  close: () => void;
}

/** What the board has no room for on a narrow screen. */
export function Menu({ account, places, look, signOut, close }: Props) {
  return (
    <Drawer title={account} open size={280} onClose={close}>
      <nav aria-label="all places" className="places">
        {places.map((p) => (
          <NavLink key={p.to} to={p.to} end={p.to === "/"} onClick={close}>
            {p.label}
          </NavLink>
        ))}
      </nav>
      <Flex vertical gap={14} align="start" style={{ marginTop: 16 }}>
        {look}
        <Button onClick={signOut}>Sign out</Button>
      </Flex>
    </Drawer>
  );
}

/** Asks who signs out though something was typed and not sent. */
export function AskToLeave({ texts, leave, stay }: { texts: number; leave: () => void; stay: () => void }) {
  return (
    <Modal title="Sign out?" open okText="Sign out" onOk={leave} onCancel={stay}>
      {texts === 1 ? "One text was" : `${String(texts)} texts were`} typed and not sent. Signing out drops{" "}
      {texts === 1 ? "it" : "them"}.
    </Modal>
  );
}
