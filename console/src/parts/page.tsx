import { lazy, type ComponentType } from "react";
import { Trouble } from "./Trouble";

const gone = new Error("This page could not be loaded. The service may be another release by now: reload the console.");

/** A page that is asked for when it is opened first. What cannot be had any more says so. */
export const page = <P extends object>(load: () => Promise<ComponentType<P>>) =>
  lazy(async () => ({ default: await load().catch((): ComponentType<P> => () => <Trouble error={gone} />) }));
