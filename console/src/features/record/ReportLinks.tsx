import { Space, Typography } from "antd";

/** A report, to be read or printed. */
export function ReportLinks({ path }: { path: string }) {
  const link = (format: string) => `/api/v1${path}${path.includes("?") ? "&" : "?"}format=${format}`;
  return (
    <Space size={8}>
      <Typography.Text type="secondary">Report:</Typography.Text>
      <a href={link("pdf")} target="_blank" rel="noreferrer">
        PDF
      </a>
      <a href={link("html")} target="_blank" rel="noreferrer">
        HTML
      </a>
    </Space>
  );
}
