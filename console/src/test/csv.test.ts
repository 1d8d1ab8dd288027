import { describe, expect, it } from "vitest";
import { rowsOf } from "../features/devices/csv";

describe("a list of devices", () => {
  it("is read by its columns, quoted values and all", () => {
    expect(
      rowsOf(
        '\uFEFFName,address,site,account,password\r\nquay,192.0.2.1:830,"Saltern, quay",u,"p""w,\nx"\r\n\r\nslip,192.0.2.2:830,,u, p \n',
      ),
    ).toEqual([
      { name: "quay", address: "192.0.2.1:830", site: "Saltern, quay", account: "u", password: 'p"w,\nx' },
      { name: "slip", address: "192.0.2.2:830", account: "u", password: " p " },
    ]);
    expect(rowsOf("name,address,account,password")).toEqual([]);
  });
  it.each([
    ["", "no column name, address, account, password"],
    ["name,address,account,password,colour\n", "mean nothing here: colour"],
    ["name,address,account,password\nquay,a:1,u\n", "Line 2 has 3 values, 4 are needed."],
    ["name,address,account,password\n\nquay,,u,p\n", "Line 3 has no address."],
    ['name,address,account,password\nquay,"a:1,u,p\n', "A quotation that begins in line 2 does not end."],
  ])("says what is wrong with %j", (text, wrong) => {
    expect(() => rowsOf(text)).toThrow(wrong);
  });
});
