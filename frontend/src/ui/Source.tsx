import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { cut } from "../lib/text";
import { Copy } from "./Copy";
import { Cut } from "./Cut";

/** Where something is written, or what stands on disk. */
export function Source({ proof }: { proof: Schemas["Evidence"] }) {
  if (proof.file) {
    return (
      <div className="min-w-0">
        {proof.text && (
          <code className="block break-words whitespace-pre-wrap">
            <Cut text={proof.text} most={200} />
          </code>
        )}
        <span className="mono text-faint wrap-anywhere">
          <Cut text={proof.file} most={200} />:{proof.line}
        </span>{" "}
        <Copy text={`${proof.file}:${proof.line}`} label="the place" />
      </div>
    );
  }
  return (
    <div className="min-w-0">
      <code className="wrap-anywhere">
        <Cut text={proof.path ?? proof.text ?? ""} most={200} />
      </code>{" "}
      {proof.path && (
        <>
          <Copy text={proof.path} label="the path" />{" "}
          <Link
            to={`/who?${new URLSearchParams({ path: proof.path })}`}
            className="text-sm text-faint underline decoration-line underline-offset-3 hover:text-ink"
          >
            who may?
          </Link>
        </>
      )}
      {proof.mode && (
        <span className="mono block text-faint">
          {proof.mode} {proof.owner}:{proof.group}
          {proof.target ? ` → ${cut(proof.target, 200)}` : ""}
        </span>
      )}
      {proof.context && (
        <span className="mono block text-faint wrap-anywhere">{proof.context}</span>
      )}
      {proof.acl && <span className="mono block text-faint">{proof.acl}</span>}
    </div>
  );
}
