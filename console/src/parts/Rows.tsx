import { Table } from "antd";
import type { TableProps } from "antd";

/**
 * A table, as all are: where the screen is too narrow for columns, each row stands by itself with the names of its
 * cells beside them.
 */
export function Rows<T extends object>({ columns = [], className, ...rest }: TableProps<T>) {
  return (
    <Table<T>
      className={`rows ${className ?? ""}`}
      columns={columns.map((c) => ({
        ...c,
        title: c.title === undefined || c.title === "" ? <span className="only-heard">what can be done</span> : c.title,
        onCell: (row, i) => ({
          ...c.onCell?.(row, i),
          "data-label": typeof c.title === "string" ? c.title : "",
        }),
      }))}
      {...rest}
    />
  );
}
