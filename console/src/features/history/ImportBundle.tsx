import { Alert, Button, Upload } from "antd";
import { useImportBundle } from "./queries";
import { BroughtBack } from "./BroughtBack";
import { Trouble } from "../../parts/Trouble";

/** A bundle, each configuration staged on the device that it is from. */
export function ImportBundle() {
  const load = useImportBundle();
  return (
    <>
      <Upload
        showUploadList={false}
        accept=".tar,application/x-tar"
        beforeUpload={(file) => {
          load.mutate(file);
          return false;
        }}
      >
        <Button size="small" loading={load.isPending}>
          Import a bundle…
        </Button>
      </Upload>
      <Trouble error={load.error} />
      {load.data?.refused?.map((r) => (
        <Alert key={r} type="error" showIcon style={{ marginTop: 8 }} title={`Not staged: ${r}`} />
      ))}
      <BroughtBack doc={load.data} />
    </>
  );
}
