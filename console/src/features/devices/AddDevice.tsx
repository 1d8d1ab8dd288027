import { Button, Form, Input, Modal, Tabs, Typography } from "antd";
import { useState } from "react";
import { useNavigate } from "react-router";
import { Secret, signInWith } from "../access/Secret";
import type { SecretEntered } from "../access/Secret";
import { Trouble } from "../../parts/Trouble";
import { addDevice, useAddDevice } from "./queries";
import { useQueryClient } from "@tanstack/react-query";
import { rowsOf, type Row } from "./csv";
import { disabledIf } from "../../lib/disabled";

interface Entered extends SecretEntered {
  name: string;
  address: string;
  account: string;
  site?: string;
  role?: string;
}

/** Adds a device, or those of a list. Nothing is sent to them before somebody accepted their host key. */
export function AddDevice() {
  const [shown, setShown] = useState(false);
  return (
    <>
      <Button
        type="primary"
        onClick={() => {
          setShown(true);
        }}
      >
        Add devices…
      </Button>
      <Modal
        open={shown}
        footer={null}
        title="Add devices"
        destroyOnHidden
        width={640}
        onCancel={() => {
          setShown(false);
        }}
      >
        <Typography.Paragraph type="secondary">
          Nothing is sent to a device that is added. Its host key is to be accepted next, on its page.
        </Typography.Paragraph>
        <Tabs
          items={[
            { key: "one", label: "One", children: <One /> },
            { key: "list", label: "A list", children: <List /> },
          ]}
        />
      </Modal>
    </>
  );
}

function One() {
  const add = useAddDevice();
  const go = useNavigate();
  return (
    <Form<Entered>
      name="device"
      layout="vertical"
      requiredMark={false}
      onFinish={(v) => {
        add.mutate(
          {
            name: v.name,
            address: v.address,
            account: v.account,
            ...signInWith(v),
            ...(v.site && { site: v.site }),
            ...(v.role && { role: v.role }),
          },
          { onSuccess: (d) => void go(`/devices/${d.name}`) },
        );
      }}
    >
      <Form.Item name="name" label="Name" rules={[{ required: true, message: "What is it called?" }]}>
        <Input placeholder="saltern-quay" autoComplete="off" />
      </Form.Item>
      <Form.Item
        name="address"
        label="Address, host:port"
        rules={[{ required: true, message: "Where is it reached by NETCONF over SSH?" }]}
      >
        <Input placeholder="192.0.2.12:830" autoComplete="off" />
      </Form.Item>
      <Form.Item name="account" label="Account on it" rules={[{ required: true, message: "Whose account?" }]}>
        <Input autoComplete="off" />
      </Form.Item>
      <Secret rules={[{ required: true, message: "It is kept sealed." }]} />
      <Form.Item name="site" label="Site (if it has one)">
        <Input />
      </Form.Item>
      <Form.Item name="role" label="Role (if it has one)">
        <Input placeholder="router" />
      </Form.Item>
      <Trouble error={add.error} />
      <Button type="primary" htmlType="submit" loading={add.isPending}>
        Add it
      </Button>
    </Form>
  );
}

/** What became of a row of the list. */
interface Outcome {
  name: string;
  trouble?: string;
}

function List() {
  const client = useQueryClient();
  const [rows, setRows] = useState<Row[]>([]);
  const [wrong, setWrong] = useState("");
  const [done, setDone] = useState<Outcome[]>([]);
  const [busy, setBusy] = useState(false);
  const read = async (file: File | undefined) => {
    if (!file) return;
    setDone([]);
    try {
      setRows(rowsOf(await file.text()));
      setWrong("");
    } catch (e) {
      setRows([]);
      setWrong(e instanceof Error ? e.message : String(e));
    }
  };
  const add = async () => {
    setBusy(true);
    const out: Outcome[] = [];
    for (const row of rows) {
      try {
        await addDevice(row);
        out.push({ name: row.name });
      } catch (e) {
        out.push({ name: row.name, trouble: e instanceof Error ? e.message : String(e) });
      }
      setDone([...out]);
    }
    setRows(rows.filter((r) => out.some((o) => o.name === r.name && o.trouble)));
    setBusy(false);
    void client.invalidateQueries();
  };
  return (
    <>
      <Typography.Paragraph>
        A file of comma-separated values (RFC 4180), whose first line names its columns:{" "}
        <code>name,address,account,password,site,role</code>. The last two may be left out.
      </Typography.Paragraph>
      <input
        type="file"
        aria-label="list of devices"
        accept=".csv,text/csv"
        onChange={(e) => void read(e.target.files?.[0])}
      />
      <Trouble error={wrong ? new Error(wrong) : null} />
      {rows.length > 0 && (
        <p>
          {rows.length} to be added:{" "}
          {rows
            .slice(0, 8)
            .map((r) => r.name)
            .join(", ")}
          {rows.length > 8 && ", …"}
        </p>
      )}
      <ul role="status" aria-label="what became of them">
        {done.map((o) => (
          <li key={o.name}>
            {o.name}: {o.trouble ? <Typography.Text type="danger">{o.trouble}</Typography.Text> : "added"}
          </li>
        ))}
      </ul>
      <Button type="primary" loading={busy} {...disabledIf(rows.length === 0)} onClick={() => void add()}>
        Add {rows.length === 1 ? "it" : "them"}
      </Button>
    </>
  );
}
