import { Alert, Button, Card, Flex, Input, Typography } from "antd";
import { useState } from "react";
import { Link } from "react-router";
import type { Saved, Session, Stencil } from "../../lib/documents";
import { TextEditor } from "../../parts/editor";
import { PageTitle } from "../../parts/Headings";
import { useDraft } from "../../lib/draft";
import { Trouble } from "../../parts/Trouble";
import { useSaveShared, useSaveStencil, useShared, useStencil, useStencils } from "./queries";
import { when } from "../../lib/time";
import { may } from "../../lib/may";
import { disabledIf } from "../../lib/disabled";

/** Stencils and shared values: pieces of configuration defined once. */
export function StencilsPage({ session }: { session: Session }) {
  const list = useStencils();
  const [name, setName] = useState<string>();
  const mayEdit = may(session, "stage");
  return (
    <>
      <PageTitle>Stencils and shared values</PageTitle>
      <Trouble error={list.error} />
      <div className="desk stencils">
        <div>
          <Card
            size="small"
            title="Stencils"
            extra={
              mayEdit && (
                <Button
                  size="small"
                  onClick={() => {
                    setName("");
                  }}
                >
                  New
                </Button>
              )
            }
          >
            {list.data?.length === 0 && (
              <Typography.Text type="secondary">
                None yet: a stencil is a piece of configuration with blanks, kept under a name.
              </Typography.Text>
            )}
            {(list.data ?? []).map((s) => (
              <Button
                key={s.name}
                type={s.name === name ? "primary" : "text"}
                block
                style={{ textAlign: "left", justifyContent: "start" }}
                onClick={() => {
                  setName(s.name);
                }}
              >
                {s.name}, version {s.version} · {s.uses?.length ?? 0} {s.uses?.length === 1 ? "device" : "devices"}
              </Button>
            ))}
          </Card>
          <SharedValues mayEdit={mayEdit} />
        </div>
        <div style={{ minWidth: 0 }}>
          {name === "" && <Edit key="new" stencil={undefined} mayEdit={mayEdit} />}
          {name && <Existing key={name} name={name} mayEdit={mayEdit} />}
        </div>
      </div>
    </>
  );
}

function Existing({ name, mayEdit }: { name: string; mayEdit: boolean }) {
  const s = useStencil(name);
  return (
    <>
      <Trouble error={s.error} />
      {s.data && <Edit key={s.data.version} stencil={s.data} mayEdit={mayEdit} />}
      {s.data && <Uses stencil={s.data} />}
    </>
  );
}

function Edit({ stencil, mayEdit }: { stencil: Stencil | undefined; mayEdit: boolean }) {
  const [name, setName] = useState(stencil?.name ?? "");
  const [typed, setText] = useDraft(`stencil ${stencil ? `${stencil.name} ${String(stencil.version)}` : ""}`);
  const text = typed || (stencil?.text ?? "system\n  contact: {contact}\n");
  const [note, setNote] = useState("");
  const save = useSaveStencil();
  return (
    <Card
      size="small"
      title={stencil ? `${stencil.name}, version ${String(stencil.version)}` : "A new stencil"}
      style={{ marginBottom: 16 }}
    >
      <Trouble error={save.error} />
      {!stencil && (
        <Input
          aria-label="name"
          placeholder="name"
          value={name}
          onChange={(e) => {
            setName(e.target.value);
          }}
          style={{ marginBottom: 8, width: 300 }}
        />
      )}
      <TextEditor label="stencil text" value={text} onChange={setText} height="240px" />
      <Typography.Paragraph type="secondary">
        An outline in which <code>{"{name}"}</code> is a blank, filled in for each device, and <code>{"{@name}"}</code>{" "}
        a shared value.
      </Typography.Paragraph>
      {stencil && (
        <div>
          Blanks:{" "}
          {stencil.blanks.map((b) => (
            <code key={(b.shared ? "@" : "") + b.name} style={{ marginRight: 8 }}>
              {b.shared && "@"}
              {b.name}
            </code>
          ))}
        </div>
      )}
      {mayEdit && (
        <Flex gap={8} style={{ marginTop: 8 }}>
          <Input
            aria-label="what is new"
            placeholder="what is new in it"
            value={note}
            onChange={(e) => {
              setNote(e.target.value);
            }}
          />
          <Button
            type="primary"
            {...disabledIf(!name || text === stencil?.text)}
            loading={save.isPending}
            onClick={() => {
              save.mutate(
                { name, text, note, from: stencil?.version },
                {
                  onSuccess: () => {
                    setText("");
                  },
                },
              );
            }}
          >
            Save a version
          </Button>
        </Flex>
      )}
      <Outcome saved={save.data} />
    </Card>
  );
}

/** What saving came to: the change that was opened for the devices that use it. */
function Outcome({ saved }: { saved: Saved | undefined }) {
  if (!saved) return null;
  return (
    <Alert
      type="success"
      showIcon
      style={{ marginTop: 8 }}
      title={`Saved as version ${String(saved.version)}`}
      description={
        <>
          {saved.change ? (
            <>
              For {saved.devices?.join(", ")}:{" "}
              <Link to={`/changes/${String(saved.change)}`}>change {saved.change}</Link>
            </>
          ) : (
            "No device needs a change."
          )}
          {saved.notes?.map((n) => (
            <div key={n}>{n}</div>
          ))}
        </>
      }
    />
  );
}

function Uses({ stencil }: { stencil: Stencil }) {
  const uses = stencil.uses ?? [];
  return (
    <Card size="small" title="Used by">
      {uses.length === 0 && (
        <Typography.Text type="secondary">No device yet. It is bound to one in a change.</Typography.Text>
      )}
      {uses.map((u) => (
        <div key={u.device} style={{ marginBottom: 10 }}>
          <Link to={`/devices/${u.device}`}>{u.device}</Link>, version {u.version}
          {u.version < u.newest && `, the newest is ${String(u.newest)}`} by{" "}
          <Link to={`/changes/${String(u.change)}`}>change {u.change}</Link>:{" "}
          {Object.entries(u.blanks).map(([k, v]) => (
            <code key={k} style={{ marginRight: 8 }}>
              {k}={v}
            </code>
          ))}
          {u.strayed?.map((s) => (
            <Alert
              key={s.path}
              type="warning"
              showIcon
              style={{ marginTop: 4 }}
              title={`Changed by hand since: ${s.path}`}
              description={`the stencil set ${s.set}, it is ${s.gone ? "gone" : (s.now ?? "")} now`}
            />
          ))}
        </div>
      ))}
      {stencil.versions?.map((v) => (
        <div key={v.version}>
          <Typography.Text type="secondary">
            version {v.version}, {v.actor}, {when(v.at)} {v.note}
          </Typography.Text>
        </div>
      ))}
    </Card>
  );
}

function SharedValues({ mayEdit }: { mayEdit: boolean }) {
  const list = useShared();
  const save = useSaveShared();
  const [name, setName] = useState("");
  const [items, setItems] = useState("");
  return (
    <Card size="small" title="Shared values" style={{ marginTop: 16 }}>
      <Trouble error={list.error ?? save.error} />
      {(list.data ?? []).map((v) => (
        <Button
          key={v.name}
          type="text"
          block
          style={{ height: "auto", whiteSpace: "normal", textAlign: "left", justifyContent: "start" }}
          onClick={() => {
            setName(v.name);
            setItems(v.items.join("\n"));
          }}
        >
          <span>
            <strong>{v.name}</strong> {v.items.join(", ")}
          </span>
        </Button>
      ))}
      {mayEdit && (
        <Flex vertical gap={6} style={{ marginTop: 8 }}>
          <Input
            aria-label="shared name"
            placeholder="name"
            value={name}
            onChange={(e) => {
              setName(e.target.value);
            }}
          />
          <Input.TextArea
            aria-label="items"
            rows={3}
            placeholder="one item a line"
            value={items}
            onChange={(e) => {
              setItems(e.target.value);
            }}
          />
          <Button
            {...disabledIf(!name || !items.trim())}
            loading={save.isPending}
            onClick={() => {
              save.mutate({
                name,
                items: items
                  .split("\n")
                  .map((i) => i.trim())
                  .filter(Boolean),
              });
            }}
          >
            Save
          </Button>
        </Flex>
      )}
      <Outcome saved={save.data} />
    </Card>
  );
}
