import { useVirtualizer } from "@tanstack/react-virtual";
import {
  memo,
  type RefObject,
  useCallback,
  useLayoutEffect,
  useMemo,
  useRef,
  useState,
} from "react";
import { useInnerLinks } from "../../lib/links";
import {
  CELL,
  cellsOf,
  type Grouping,
  inStrips,
  isFine,
  PITCH,
  type Shoal,
  type Strip,
} from "./present";
import { FineMark, SiteMark } from "./SiteMark";
import { Title } from "./Title";

export interface PartProps {
  groups: Shoal[];
  by: Grouping;
  frame: string;
}

/** Thousands of marks: only what is in sight is drawn. */
export function Wide({ groups, by, frame }: PartProps) {
  const scroller = useRef<HTMLDivElement>(null);
  const across = Math.max(1, Math.floor(useWidth(scroller) / PITCH));
  const strips = useMemo(() => inStrips(groups, across), [groups, across]);
  useInnerLinks(scroller);
  // Other strips have other keys, and so their heights are asked for anew.
  const key = useCallback((at: number) => `${strips[at]?.shoal.title} ${at}`, [strips]);
  const drawn = useVirtualizer({
    count: strips.length,
    getScrollElement: () => scroller.current,
    estimateSize: (at) => strips[at]?.height ?? 0,
    getItemKey: key,
    overscan: 2,
  });
  return (
    <div ref={scroller} className={frame}>
      <div className="relative" style={{ height: drawn.getTotalSize() }}>
        {drawn.getVirtualItems().map((item) => {
          const strip = strips[item.index];
          return (
            strip && (
              <div
                key={item.key}
                className="absolute inset-x-0"
                style={{ transform: `translateY(${item.start}px)` }}
              >
                <Marks strip={strip} by={by} across={across} />
              </div>
            )
          );
        })}
      </div>
    </div>
  );
}

interface MarksProps {
  strip: Strip;
  by: Grouping;
  across: number;
}

const Marks = memo(function Marks({ strip, by, across }: MarksProps) {
  return (
    <section
      aria-label={strip.shoal.title}
      className="flex flex-col justify-end [contain:size_layout_style]"
      style={{ height: strip.height }}
    >
      {strip.first && <Title shoal={strip.shoal} by={by} />}
      <div
        className="grid gap-1 pb-1"
        style={{ gridTemplateColumns: `repeat(${across}, ${CELL}px)`, gridAutoRows: CELL }}
      >
        {strip.sites.map((site) =>
          isFine(site) ? (
            <FineMark key={site.id} site={site} />
          ) : (
            <div key={site.id} style={{ gridColumn: `span ${cellsOf(site, across)}` }}>
              <SiteMark site={site} />
            </div>
          ),
        )}
      </div>
    </section>
  );
});

/** The inner width of an element, in pixels, as long as it is there. */
function useWidth(of: RefObject<HTMLElement | null>): number {
  const [width, setWidth] = useState(0);
  useLayoutEffect(() => {
    if (!of.current) return;
    const watch = new ResizeObserver(([seen]) => setWidth(seen?.contentRect.width ?? 0));
    watch.observe(of.current);
    return () => watch.disconnect();
  }, [of]);
  return width;
}
