import type { Course, Verdict } from "../lib/passage";

const LEFT = 48;
const RIGHT = 72;
const MID = 22;

/** Two posts and the course between them; the verdict is in the shape, the colour repeats it. */
export function GateMark({ verdict, course }: { verdict: Verdict; course: Course }) {
  const beyond = course === "beyond";
  const line = {
    className: beyond ? "stroke-faint" : "stroke-ink",
    strokeWidth: beyond ? 1.2 : 2.2,
    strokeDasharray: beyond ? "2 5" : undefined,
    fill: "none",
  };
  return (
    <svg
      viewBox="0 0 120 44"
      preserveAspectRatio="none"
      className="block h-11 w-full overflow-visible"
      aria-hidden="true"
    >
      <path d={`M-3 ${MID} H${LEFT + 2}`} {...line} />
      <Gap verdict={verdict} line={line} />
      <path d={`M${RIGHT - 2} ${MID} H123`} {...line} {...(course === "stopped" ? AFTER : {})} />
      <Posts verdict={verdict} />
    </svg>
  );
}

const AFTER = { className: "stroke-faint", strokeWidth: 1.2, strokeDasharray: "2 5" };

interface Line {
  className: string;
  strokeWidth: number;
  strokeDasharray: string | undefined;
  fill: string;
}

function Gap({ verdict, line }: { verdict: Verdict; line: Line }) {
  switch (verdict) {
    case "clear":
      return <path d={`M${LEFT} ${MID} H${RIGHT}`} {...line} />;
    case "blocked":
      return (
        <g className="fill-blocked stroke-blocked">
          <rect x={LEFT} y={MID - 9} width={RIGHT - LEFT} height={18} stroke="none" />
          <path
            d={`M${LEFT + 5} ${MID + 9} l8 -18 M${LEFT + 13} ${MID + 9} l8 -18`}
            className="stroke-paper"
            strokeWidth="2"
          />
        </g>
      );
    case "diverted":
      return (
        <g className="stroke-diverted" fill="none" strokeWidth="2.2">
          <path
            d={`M${LEFT} ${MID} C${LEFT + 10} ${MID} ${LEFT + 6} ${MID + 17} ${RIGHT} ${MID + 17}`}
          />
          <path d={`M${RIGHT - 6} ${MID + 12} l6 5 l-6 4`} />
          <path d={`M${LEFT + 14} ${MID} H${RIGHT}`} strokeDasharray="1 4" strokeWidth="1.4" />
        </g>
      );
    case "unsure":
      return (
        <g className="stroke-unsure" fill="none">
          <circle cx="60" cy={MID} r="8" strokeWidth="2" strokeDasharray="3 2.2" />
          <circle cx="60" cy={MID} r="1.6" className="fill-unsure" stroke="none" />
        </g>
      );
    default:
      return <path d={`M${LEFT} ${MID} H${RIGHT}`} {...line} strokeWidth={1} />;
  }
}

const POSTS: Record<Verdict, { className: string; strokeWidth: number; reach: number }> = {
  clear: { className: "stroke-clear", strokeWidth: 2.4, reach: 13 },
  blocked: { className: "stroke-blocked", strokeWidth: 3.2, reach: 19 },
  diverted: { className: "stroke-diverted", strokeWidth: 2.4, reach: 13 },
  unsure: { className: "stroke-unsure", strokeWidth: 2.4, reach: 13 },
  skipped: { className: "stroke-line", strokeWidth: 1.6, reach: 6 },
};

function Posts({ verdict }: { verdict: Verdict }) {
  const { reach, ...stroke } = POSTS[verdict];
  return (
    <path
      d={`M${LEFT} ${MID - reach} V${MID + reach} M${RIGHT} ${MID - reach} V${MID + reach}`}
      {...stroke}
    />
  );
}
