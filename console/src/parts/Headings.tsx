import { useEffect, type CSSProperties, type ReactNode } from "react";

/** The heading of a page, which is also the title of its window; with what it is about where that is more. */
export function PageTitle({ children, title }: { children: ReactNode; title?: string }) {
  const text = title ?? (typeof children === "string" ? children : "");
  useEffect(() => {
    document.title = text ? `${text} · Oaken Latch` : "Oaken Latch";
  }, [text]);
  return <h1 className="page-title">{children}</h1>;
}

/** The heading of a part of a page. */
export function SubTitle({ children, style }: { children: ReactNode; style?: CSSProperties }) {
  return (
    <h2 className="sub-title" style={style}>
      {children}
    </h2>
  );
}
