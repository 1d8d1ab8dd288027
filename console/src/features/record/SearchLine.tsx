import { AutoComplete, Input } from "antd";
import { useState } from "react";
import { useSearchHints } from "./queries";

/** Bytes of a text, as the service counts them. */
const bytes = (text: string) => new TextEncoder().encode(text);

interface Props {
  line: string;
  onSearch: (line: string) => void;
  status?: "error" | "";
}

/** The line to search by: it goes on by itself, and Enter searches. */
export function SearchLine({ line, onSearch, status = "" }: Props) {
  const [text, setText] = useState(line);
  const [known, setKnown] = useState(line);
  if (known !== line) {
    setKnown(line);
    setText(line);
  }
  const hints = useSearchHints(text);
  const kept = new TextDecoder().decode(bytes(text).slice(0, hints.data?.from ?? 0));
  const options = (hints.data?.hints ?? []).map((h) => ({
    value: kept + h.value,
    label: (
      <span>
        <code>{h.value}</code> <small>{h.says}</small>
      </span>
    ),
  }));
  return (
    <AutoComplete
      style={{ width: "100%" }}
      value={text}
      onChange={setText}
      options={options}
      defaultActiveFirstOption={false}
      onSelect={(v: string) => {
        setText(v);
      }}
    >
      <Input.Search
        aria-label="search"
        allowClear
        enterButton="Search"
        status={status}
        placeholder='who:mara device:saltern-* path:/interfaces since:7d "port 3"'
        onSearch={(v) => {
          onSearch(v.trim());
        }}
      />
    </AutoComplete>
  );
}
