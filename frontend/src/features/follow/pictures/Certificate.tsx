import type { Schemas } from "../../../api/client";
import { day, plural } from "../../../lib/text";
import { Span } from "../../../ui/plots/Span";

type Seal = Schemas["SealView"];
type Link = Schemas["CertificateView"];

const DAY = 86_400;

/** The certificate that is shown: does it hold the name, is it in time, who vouches for it? */
export function Certificate({ seal }: { seal: Seal }) {
  const { begins, ends } = seal.certificate;
  const left = Math.floor((ends - seal.seen_at) / DAY);
  const over = seal.state === "over" || seal.state === "not-yet";
  const soon = seal.state === "soon";
  return (
    <section aria-label="The certificate" className="space-y-5">
      <Names seal={seal} />
      <section aria-label="Its time">
        <h3 className="mb-1 text-sm text-faint">
          Its time: {day(begins)} to {day(ends)}
          <strong className={`ml-3 ${over ? "text-blocked" : soon ? "text-unsure" : "text-clear"}`}>
            {seal.state === "not-yet"
              ? "not yet begun"
              : over
                ? `over for ${plural(-left, "day")}`
                : `${plural(left, "day")} left`}
          </strong>
        </h3>
        <Span
          begins={begins}
          ends={ends}
          now={seal.seen_at}
          state={over ? "over" : soon ? "soon" : "in-time"}
        />
      </section>
      <Chain seal={seal} />
      <p className="text-sm text-faint">
        <code className="wrap-anywhere">{seal.path}</code>, with the key{" "}
        <code className="wrap-anywhere">{seal.key_path}</code>. SHA-256{" "}
        <code className="wrap-anywhere">{seal.certificate.digest}</code>
      </p>
    </section>
  );
}

function Names({ seal }: { seal: Seal }) {
  return (
    <section
      aria-label="Its names"
      className="grid grid-cols-[minmax(0,1fr)_auto_minmax(0,2fr)] items-center gap-x-4"
    >
      <div>
        <h3 className="text-sm text-faint">Asked for</h3>
        <code className="font-semibold wrap-anywhere">{seal.asked}</code>
      </div>
      <span className={`font-bold ${seal.held ? "text-clear" : "text-blocked"}`}>
        {seal.held ? "is held by" : "is not held by"}
      </span>
      <div>
        <h3 className="text-sm text-faint">
          {seal.certificate.key}, {plural(seal.names.length + seal.more, "name")}
        </h3>
        <ul className="flex flex-wrap gap-x-4 gap-y-1">
          {seal.names.map((name) => (
            <li key={name}>
              <code
                className={`wrap-anywhere ${name === seal.held ? "border-b-2 border-clear font-semibold" : ""}`}
              >
                {name}
              </code>
            </li>
          ))}
          {seal.more > 0 && <li className="text-faint">and {seal.more} more</li>}
          {seal.names.length === 0 && <li className="text-faint">none at all</li>}
        </ul>
      </div>
    </section>
  );
}

const SOUND = ["whole", "order"];

function Chain({ seal }: { seal: Seal }) {
  const links = [seal.certificate, ...seal.chain];
  const last = links[links.length - 1];
  const sound = SOUND.includes(seal.chain_state);
  return (
    <section aria-label="Who vouches for it">
      <h3 className="mb-1 text-sm text-faint">Who vouches for it</h3>
      <ol className="flex flex-wrap items-stretch gap-y-2">
        {links.map((link) => (
          <Step key={link.digest} link={link} />
        ))}
        {seal.chain_state !== "itself" && last && (
          <li
            className={`flex min-w-0 flex-col border-l-4 px-3 py-1 ${sound ? "border-l-clear" : "border-l-blocked"}`}
          >
            <span className="font-semibold wrap-anywhere">{last.issuer}</span>
            <span className={`text-sm ${sound ? "text-clear" : "text-blocked"}`}>
              {sound
                ? "trusted by this system"
                : seal.chain_state === "cut"
                  ? "not sent"
                  : "not known here"}
            </span>
          </li>
        )}
      </ol>
      <p className={`mt-1 text-sm ${seal.chain_state === "whole" ? "text-faint" : "text-unsure"}`}>
        The chain {seal.chain_words}.
      </p>
    </section>
  );
}

function Step({ link }: { link: Link }) {
  return (
    <li className="flex min-w-0 flex-col border-l-4 border-l-line px-3 py-1 pr-6">
      <span className="font-semibold wrap-anywhere">{link.subject}</span>
      <span className="text-sm text-faint">
        {link.key}, to {day(link.ends)}, by {link.issuer}
      </span>
    </li>
  );
}
