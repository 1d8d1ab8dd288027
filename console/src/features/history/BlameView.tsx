import { Card, Input, Segmented, Typography, theme } from "antd";
import { useMemo, useState } from "react";
import { Link } from "react-router";
import { useBlame } from "./queries";
import { Code } from "../../parts/Code";
import { Trouble } from "../../parts/Trouble";
import { whose } from "./whose";
import { when, whenShort } from "../../lib/time";

/** The configuration with who last set each line; and what was removed. */
export function BlameView({ device }: { device: string }) {
  const { token } = theme.useToken();
  const [path, setPath] = useState("/");
  const [show, setShow] = useState("there");
  const blame = useBlame(device, path);
  const by = useMemo(() => new Map((blame.data?.revisions ?? []).map((r) => [r.number, r])), [blame.data]);
  const newest = blame.data?.revision ?? 1;
  let last: number | undefined;
  return (
    <Card
      size="small"
      title="Who last set each line"
      extra={
        <Segmented
          size="small"
          aria-label="what is shown"
          value={show}
          onChange={setShow}
          options={[
            { value: "there", label: "there now" },
            { value: "gone", label: `removed (${String(blame.data?.gone.length ?? 0)})` },
          ]}
        />
      }
    >
      <Input.Search
        aria-label="path of the blame"
        placeholder="a path, e.g. /interfaces"
        defaultValue={path}
        onSearch={(v) => {
          setPath(v || "/");
        }}
        enterButton="Look"
        style={{ marginBottom: 10, maxWidth: 520 }}
      />
      <Trouble error={blame.error} />
      {show === "there" && (
        <div
          role="table"
          tabIndex={0}
          aria-label="blame"
          style={{ fontFamily: token.fontFamilyCode, fontSize: 13, lineHeight: "21px", overflowX: "auto" }}
        >
          {blame.data?.lines.map((l, i) => {
            const r = l.revision === undefined ? undefined : by.get(l.revision);
            const again = r !== undefined && r.number === last;
            last = r?.number ?? last;
            // The newer a line, the stronger its bar.
            const age = r ? r.number / newest : 0;
            return (
              <div
                role="row"
                key={i}
                style={{ display: "flex", whiteSpace: "pre" }}
                title={r ? `${l.path}: revision ${String(r.number)}, ${when(r.at)}` : l.path}
              >
                <span
                  role="cell"
                  style={{
                    width: "min(380px, 42vw)",
                    flex: "none",
                    color: token.colorTextSecondary,
                    overflow: "hidden",
                    textOverflow: "ellipsis",
                  }}
                >
                  {r && !again && (
                    <>
                      rev {r.number}
                      {"  "}
                      {whenShort(r.at)}
                      {"  "}
                      {whose(r)}
                      {r.change ? (
                        <>
                          {"  "}
                          <Link to={`/changes/${String(r.change)}`}>change {r.change}</Link>
                        </>
                      ) : (
                        ""
                      )}
                      {r.ticket ? ` ${r.ticket}` : ""}
                    </>
                  )}
                </span>
                <span
                  aria-hidden
                  style={{
                    width: 5,
                    flex: "none",
                    background: r ? token.colorPrimary : "transparent",
                    opacity: r ? 0.15 + 0.85 * age : 0,
                    marginRight: 10,
                  }}
                />
                <span role="cell" style={{ paddingLeft: `${String(l.depth * 1.4)}em` }}>
                  {l.text}
                </span>
              </div>
            );
          })}
        </div>
      )}
      {show === "gone" && blame.data?.gone.length === 0 && (
        <Typography.Text type="secondary">Nothing was removed that is not there again.</Typography.Text>
      )}
      {show === "gone" &&
        blame.data?.gone.map((g) => {
          const r = by.get(g.revision);
          return (
            <div key={g.path} style={{ marginBottom: 10 }}>
              <code>− {g.path}</code>{" "}
              <Typography.Text type="secondary">
                removed by {r ? whose(r) : "?"}
                {r?.change ? (
                  <>
                    ,{" "}
                    <Link to={`/changes/${String(r.change)}`}>
                      change {r.change}: {r.title}
                    </Link>
                  </>
                ) : (
                  ""
                )}
                , {when(r?.at)}
              </Typography.Text>
              <Code label={`what was at ${g.path}`} text={g.was} style={{ margin: "2px 0 0 20px" }} />
            </div>
          );
        })}
    </Card>
  );
}
