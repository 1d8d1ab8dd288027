import { Modal, Spin, Typography } from "antd";
import type { Change } from "../../lib/documents";
import { usePreview } from "./queries";
import { Difference } from "../../parts/Difference";
import { Trouble } from "../../parts/Trouble";

/** Shows exactly what is taken out before it is. */
export function RevertDialog({
  change,
  open,
  busy,
  onGo,
  onClose,
}: {
  change: Change;
  open: boolean;
  busy: boolean;
  onGo: () => void;
  onClose: () => void;
}) {
  const preview = usePreview(change.number, open ? change.updated : undefined);
  return (
    <Modal
      open={open}
      title={`Revert change ${String(change.number)} on ${change.devices.join(", ")}?`}
      width={820}
      okText="Revert now"
      cancelText="Keep it on hold"
      okButtonProps={{ danger: true, loading: busy }}
      onOk={onGo}
      onCancel={onClose}
      destroyOnHidden
    >
      <Trouble error={preview.error} />
      {open && preview.isPending && <Spin />}
      {preview.data?.parts.map((p) => (
        <div key={p.device} style={{ marginBottom: 12 }}>
          <Typography.Text strong>{p.device}</Typography.Text>{" "}
          <Typography.Text type="secondary">what the change did, and what is taken out again</Typography.Text>
          <Difference lines={p.lines} />
        </div>
      ))}
    </Modal>
  );
}
