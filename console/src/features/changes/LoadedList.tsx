import { Alert } from "antd";
import type { Loaded } from "../../lib/documents";
import { Difference } from "../../parts/Difference";

/** What a load did, device by device. */
export function LoadedList({ list }: { list: Loaded[] | undefined }) {
  return (
    <>
      {list?.map((l) => (
        <Alert
          key={l.device}
          type={l.edit.id ? "success" : "info"}
          showIcon
          style={{ marginTop: 8 }}
          title={`${l.device}: ${l.edit.id ? `staged as edit ${String(l.edit.id)}` : "nothing was staged"}`}
          description={
            <>
              {l.notes?.map((n) => (
                <div key={n}>{n}</div>
              ))}
              {l.lines.length <= 12 && <Difference lines={l.lines} />}
            </>
          }
        />
      ))}
    </>
  );
}
