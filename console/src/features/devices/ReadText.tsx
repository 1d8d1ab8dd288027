import { Alert, Button, Card, Flex, Select, Typography } from "antd";
import { useState } from "react";
import { useDraft } from "../../lib/draft";
import { Code } from "../../parts/Code";
import { TextEditor } from "../../parts/editor";
import { Trouble } from "../../parts/Trouble";
import { useReadText } from "./queries";
import { disabledIf } from "../../lib/disabled";

/** Checks a file or text by a device's modules, and writes it in another format. Nothing is staged. */
export function ReadText({ device }: { device: string }) {
  const [text, setText] = useDraft(`check ${device}`);
  const [as, setAs] = useState<string>("outline");
  const read = useReadText(device);
  const found = read.data;
  return (
    <Card size="small" title="Check and convert a text">
      <Typography.Paragraph type="secondary">
        XML, JSON or an outline, format detected automatically, judged by the modules of {device}. Nothing is staged,
        and the device is not asked.
      </Typography.Paragraph>
      <Flex vertical gap={8}>
        <input
          type="file"
          aria-label="file"
          onChange={(e) => {
            void e.target.files?.[0]?.text().then(setText);
          }}
        />
        <TextEditor label="text to check" value={text} onChange={setText} height="180px" />
        <Flex gap={8} align="center" wrap>
          <Button
            type="primary"
            loading={read.isPending}
            {...disabledIf(text.trim() === "")}
            onClick={() => {
              read.mutate({ text, as });
            }}
          >
            Check
          </Button>
          and write it as
          <Select
            aria-label="format"
            value={as}
            onChange={setAs}
            options={["outline", "xml", "json"].map((value) => ({ value }))}
            style={{ width: 110 }}
          />
        </Flex>
        <Trouble error={read.error} />
        {found && (
          <div role="status">
            <Alert
              type={found.findings.some((f) => f.severity === "error") ? "error" : "success"}
              showIcon
              title={`Read as ${found.format}: ${String(found.values)} values, ${
                found.findings.length === 0 ? "nothing wrong was found" : `${String(found.findings.length)} findings`
              }`}
              description={
                <>
                  {found.findings.map((f) => (
                    <div key={f.path + f.message}>
                      {f.severity}: <code>{f.path}</code> {f.message}
                    </div>
                  ))}
                  {found.unread.map((p) => (
                    <div key={p}>
                      <code>{p}</code>: no module describes it; carried unread
                    </div>
                  ))}
                  {found.unchecked > 0 && <div>{found.unchecked} conditions are left to the device.</div>}
                </>
              }
            />
          </div>
        )}
        {found && <Code label="as it is written" text={found.text} style={{ maxHeight: "50vh" }} />}
      </Flex>
    </Card>
  );
}
