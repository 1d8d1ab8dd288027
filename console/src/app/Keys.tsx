import { Modal, Switch } from "antd";
import { useState } from "react";
import { keysOn, setKeys } from "./keys";

const list: [string, string][] = [
  ["Ctrl+K", "find anything"],
  ["/", "find anything"],
  ["?", "this list"],
  ["g then n", "Now"],
  ["g then c", "Changes"],
  ["g then m", "Commits"],
  ["g then d", "Devices"],
  ["g then o", "Outside"],
  ["g then s", "Snapshots"],
  ["g then b", "Backups"],
  ["g then a", "Audit"],
];

/** The keys there are. */
export function Keys({ close }: { close: () => void }) {
  const [on, setOn] = useState(keysOn);
  return (
    <Modal open title="Keys" onCancel={close} footer={null}>
      <table>
        <thead className="only-heard">
          <tr>
            <th scope="col">Key</th>
            <th scope="col">Does</th>
          </tr>
        </thead>
        <tbody>
          {list.map(([key, does]) => (
            <tr key={key}>
              <td style={{ paddingRight: 20 }}>
                <kbd>{key}</kbd>
              </td>
              <td>{does}</td>
            </tr>
          ))}
        </tbody>
      </table>
      <p>
        <Switch
          aria-label="single keys do something"
          checked={on}
          onChange={(v) => {
            setKeys(v);
            setOn(v);
          }}
        />{" "}
        Single keys do something. Ctrl+K always does.
      </p>
    </Modal>
  );
}
