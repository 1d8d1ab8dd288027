import { Alert, Button, Flex, Input, Radio, Select, Typography } from "antd";
import { useState } from "react";
import type { Part } from "../../lib/documents";
import { LoadedList } from "./LoadedList";
import { TextEditor } from "../../parts/editor";
import { Trouble } from "../../parts/Trouble";
import { fetchPart, useLoad } from "./queries";
import { useDevices } from "../devices/queries";
import { useDraft } from "../../lib/draft";
import { disabledIf } from "../../lib/disabled";

/** What was being edited; nothing where that cannot be read. */
function editingOf(kept: string): { part: Part; text: string } | undefined {
  try {
    return kept === "" ? undefined : (JSON.parse(kept) as { part: Part; text: string });
  } catch {
    return undefined;
  }
}

/** Edits what is staged on a device as an outline. */
export function EditText({ number, device }: { number: number; device: string }) {
  const [path, setPath] = useState("/");
  // What is edited, and the text so far: as they were if the page was left meanwhile.
  const name = `text ${String(number)} ${device}`;
  const [kept, keep] = useDraft(name);
  const editing = editingOf(kept);
  const part = editing?.part;
  const text = editing?.text ?? "";
  const setPart = (p: Part | undefined, t = "") => {
    keep(p === undefined ? "" : JSON.stringify({ part: p, text: t }));
  };
  const [error, setError] = useState<Error | null>(null);
  const load = useLoad(number);
  const fetch = () => {
    setError(null);
    fetchPart(number, device, path).then(
      (p) => {
        setPart(p, p.outline);
        load.reset();
      },
      (e: unknown) => {
        setError(e instanceof Error ? e : new Error(String(e)));
      },
    );
  };
  const save = () => {
    if (!part) return;
    const whole = part.path === "/";
    load.mutate(
      {
        devices: [part.device],
        mode: whole ? "replace" : "replace-at",
        ...(!whole && { path: part.path }),
        text,
        name: "the console's editor",
        tag: part.tag,
      },
      {
        onSuccess: () => {
          setPart(undefined);
        },
      },
    );
  };
  return (
    <Flex vertical gap={8}>
      <Trouble error={error ?? load.error} />
      <Flex gap={8}>
        <Input
          aria-label="path to edit"
          value={path}
          onChange={(e) => {
            setPath(e.target.value);
          }}
          onPressEnter={fetch}
          placeholder="/acls"
          style={{ fontFamily: "monospace" }}
        />
        <Button onClick={fetch}>Edit as text</Button>
      </Flex>
      {part && part.device === device && (
        <>
          <Typography.Text type="secondary">
            What stands here will stand at <code>{part.path}</code> of {part.device}, and nothing else.
          </Typography.Text>
          <TextEditor
            label="outline"
            value={text}
            onChange={(t) => {
              setPart(part, t);
            }}
          />
          <Flex gap={8}>
            <Button
              type="primary"
              ghost
              onClick={save}
              loading={load.isPending}
              {...disabledIf(text === part.outline || text.trim() === "")}
            >
              Stage the text
            </Button>
            <Button
              onClick={() => {
                setPart(undefined);
              }}
            >
              Leave it
            </Button>
          </Flex>
        </>
      )}
      <LoadedList list={load.data} />
    </Flex>
  );
}

const modes = [
  { value: "merge", label: "merge: what it holds is set, everything else stays" },
  { value: "replace", label: "replace: it is the whole configuration" },
  { value: "replace-at", label: "replace-at: just what is at one path" },
  { value: "patch", label: "patch: a YANG Patch, which names its edits itself" },
];

/** Loads a piece of configuration: a file, a text, or what a device holds. */
export function LoadForm({ number, devices }: { number: number; devices: string[] }) {
  const [from, setFrom] = useState<"text" | "device">("text");
  const [mode, setMode] = useState("merge");
  const [path, setPath] = useState("");
  const [text, setText] = useDraft(`load ${String(number)}`);
  const [name, setName] = useState("a text");
  const [source, setSource] = useState<string>();
  const [where, setWhere] = useState("running");
  const all = useDevices();
  const load = useLoad(number);
  const takesPath = mode === "replace-at" || (from === "device" && mode === "merge");
  const go = () => {
    const common = { devices, mode, ...(takesPath && path && { path }) };
    load.mutate(from === "text" ? { ...common, text, name } : { ...common, fromDevice: source ?? "", from: where }, {
      onSuccess: () => {
        setText("");
      },
    });
  };
  const take = (f: File | undefined) => {
    if (!f) return;
    void f.text().then((t) => {
      setText(t);
      setName(f.name);
    });
  };
  return (
    <Flex vertical gap={8}>
      <Trouble error={load.error} />
      <Flex gap={12} align="center" wrap>
        <Radio.Group
          value={from}
          onChange={(e) => {
            setFrom(e.target.value as "text" | "device");
          }}
          optionType="button"
          size="small"
          options={[
            { value: "text", label: "file or text" },
            { value: "device", label: "from a device" },
          ]}
        />
        <Select
          aria-label="mode"
          size="small"
          value={mode}
          onChange={setMode}
          options={from === "device" ? modes.slice(0, 3) : modes}
          style={{ width: 400 }}
        />
        {takesPath && (
          <Input
            aria-label="path"
            size="small"
            value={path}
            onChange={(e) => {
              setPath(e.target.value);
            }}
            placeholder="/acls"
            style={{ width: 200, fontFamily: "monospace" }}
          />
        )}
      </Flex>
      {from === "text" && (
        <>
          <input
            type="file"
            aria-label="file"
            onChange={(e) => {
              take(e.target.files?.[0]);
            }}
          />
          <TextEditor label="text" value={text} onChange={setText} height="160px" />
          <Typography.Text type="secondary">XML, JSON or outline, format detected automatically.</Typography.Text>
        </>
      )}
      {from === "device" && (
        <Flex gap={8}>
          <Select
            aria-label="source"
            placeholder="device"
            style={{ width: 200 }}
            showSearch
            value={source}
            onChange={setSource}
            options={(all.data ?? []).map((d) => ({ value: d.name }))}
          />
          <Input
            aria-label="from"
            value={where}
            onChange={(e) => {
              setWhere(e.target.value);
            }}
            style={{ width: 160 }}
          />
          <Typography.Text type="secondary">running, startup, rev:N or change:N</Typography.Text>
        </Flex>
      )}
      <Button
        type="primary"
        ghost
        style={{ alignSelf: "start" }}
        loading={load.isPending}
        {...disabledIf(devices.length === 0 || (from === "text" ? text.trim() === "" : !source))}
        onClick={go}
      >
        Stage on {devices.length === 1 ? devices[0] : `${String(devices.length)} devices`}
      </Button>
      {devices.length === 0 && <Alert type="info" title="Choose a device first." />}
      <LoadedList list={load.data} />
    </Flex>
  );
}
