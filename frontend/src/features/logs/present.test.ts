import { describe, expect, it } from "vitest";
import { count, size } from "../../lib/numbers";
import {
  at,
  brushed,
  columns,
  csv,
  fromField,
  peaks,
  rangeOf,
  share,
  tickWords,
  wholeRange,
  zoneWords,
} from "./present";

const whole = { begin: 36_000, end: 36_000 + 48 * 3600 };

describe("times of the logs", () => {
  it("stand in their own zone", () => {
    expect(at(1_933_509_720, 0)).toBe("2031-04-09 14:02");
    expect(at(1_933_509_720, 7200)).toBe("2031-04-09 16:02");
    expect(zoneWords(0)).toBe("UTC");
    expect(zoneWords(-12_600)).toBe("−03:30");
  });

  it("are read as they are shown, on whole hours", () => {
    expect(fromField("2031-04-09 14:02", 0)).toBe(1_933_509_600);
    expect(fromField(at(1_933_509_600, 7200), 7200)).toBe(1_933_509_600);
    expect(fromField("2031-04-09", 0)).toBe(1_933_459_200);
    expect(fromField("", 0)).toBeNull();
    expect(fromField("2031-14-09 14:02", 0)).toBeNull();
  });
});

describe("a range", () => {
  it("is whole hours around the logs", () => {
    expect(wholeRange(3601, 7200)).toEqual({ begin: 3600, end: 10_800 });
  });

  it("of an address stays within the logs, or is the whole", () => {
    expect(rangeOf("40000", "50000", whole)).toEqual({ begin: 40_000, end: 50_000 });
    expect(rangeOf("1", "99999999", whole)).toEqual(whole);
    expect(rangeOf("50000", "40000", whole)).toEqual(whole);
    expect(rangeOf("x", null, whole)).toEqual(whole);
  });

  it("that is dragged lies on whole bands, in either direction; a click is none", () => {
    const range = { begin: 39_600, end: 46_800 };
    expect(brushed(40_000, 46_000, 3600, whole)).toEqual(range);
    expect(brushed(46_000, 40_000, 3600, whole)).toEqual(range);
    expect(brushed(40_000, 40_100, 3600, whole)).toBeNull();
    expect(brushed(40_000, 9e9, 3600, whole)?.end).toBe(whole.end);
  });

  it("marks the axis by the year, the day or the hour", () => {
    const words = ["2031-04-09T14:00Z", "2031-04-09T00:00Z", "2031-01-01T00:00Z"];
    expect(words.map((text) => tickWords(new Date(text)))).toEqual(["14:00", "04-09", "2031"]);
  });
});

describe("numbers", () => {
  it("are told as people read them", () => {
    expect(count(1_234_567)).toBe("1\u202f234\u202f567");
    expect(size(999)).toBe("999 B");
    expect(size(853_703_315)).toBe("853.7 MB");
    expect(share(1, 400)).toBe("under 1 %");
    expect(share(0, 0)).toBe("0 %");
  });

  it("of a band stand by how the request ended", () => {
    expect(columns([{ begin: 0, classes: [1, 0, 5, 2, 3, 4] }])).toEqual([
      { begin: 0, answered: 6, sent: 2, refused: 3, broken: 4 },
    ]);
  });
});

describe("a table that is carried away", () => {
  it("keeps its texts, and none becomes a formula", () => {
    expect(
      csv([
        ["a", 1],
        ['say "x", y', "=1+1"],
        ["-", "+44"],
      ]),
    ).toBe('a,1\r\n"say ""x"", y",\'=1+1\r\n\'-,\'+44\r\n');
  });
});

describe("what stands out", () => {
  const band = (at: number, answered: number, failed: number) => ({
    begin: at * 3600,
    classes: [0, 0, answered, 0, failed, 0],
  });

  it("is the hour in which the most failed, and the one with the most requests", () => {
    const bands = [band(0, 90, 2), band(1, 80, 1), band(2, 60, 50), band(3, 400, 9), band(4, 0, 0)];
    expect(peaks(bands, 3600)).toEqual({
      failing: { begin: 7200, requests: 110, failed: 50, usual: 9 / 409 },
      busiest: { begin: 10_800, requests: 409, times: 409 / 110 },
    });
  });

  it("is nothing where every hour is like the others, or none was asked for", () => {
    expect(peaks([band(0, 90, 2), band(1, 90, 2), band(2, 90, 2)], 3600)).toEqual({
      failing: null,
      busiest: null,
    });
    expect(peaks([], 3600)).toEqual({ failing: null, busiest: null });
  });
});
