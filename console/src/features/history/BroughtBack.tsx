import { Alert } from "antd";
import { Link } from "react-router";
import type { BroughtBack as Doc } from "../../lib/documents";
import { when } from "../../lib/time";

/** What a restore or an undo came to: the change to preview, and what goes with it. */
export function BroughtBack({ doc }: { doc: Doc | undefined }) {
  if (!doc) return null;
  if (doc.change === 0)
    return <Alert type="info" showIcon style={{ marginTop: 12 }} title="It is so already: there is nothing to do." />;
  const takes = doc.parts.flatMap((p) => p.takes.map((t) => ({ device: p.device, ...t })));
  return (
    <Alert
      type={takes.length > 0 ? "warning" : "success"}
      showIcon
      style={{ marginTop: 12 }}
      title={
        <>
          Staged in{" "}
          <Link to={`/changes/${String(doc.change)}`}>
            change {doc.change}: {doc.title}
          </Link>
          . Nothing reached a device: preview it, and commit it on hold.
        </>
      }
      description={
        <>
          {takes.length > 0 && <div>Later work that it takes away:</div>}
          {takes.map((t) => (
            <div key={`${t.device} ${String(t.revision)}`}>
              {t.device}, revision {t.revision}, {when(t.at)}:{" "}
              {t.change
                ? `change ${String(t.change)} of ${t.author ?? ""}, ${t.title ?? ""}`
                : "changed outside of this service"}{" "}
              ({t.places} {t.places === 1 ? "place" : "places"})
            </div>
          ))}
          {doc.parts
            .flatMap((p) => [
              ...(p.notes ?? []).map((n) => `${p.device}: ${n}`),
              ...p.left.map((l) => `${p.device}: ${l.path} stays ${l.now}: it was set again since`),
            ])
            .map((n) => (
              <div key={n}>{n}</div>
            ))}
        </>
      }
    />
  );
}
