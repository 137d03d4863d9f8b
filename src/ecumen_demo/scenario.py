"""The demo server `quay` of the Saltmarsh Commons, a hosting co-operative in an invented town.

Everything is made up: people, clubs and names; addresses are from the documentation ranges.
"""

from __future__ import annotations

import random
from collections.abc import Callable
from dataclasses import dataclass, field, replace
from enum import Enum

from ecumen.contexts.rules import ContextRules
from ecumen.contexts.shipped import shipped_policy
from ecumen.survey import (
    Account,
    EngineRecord,
    Group,
    Kind,
    Labels,
    Listener,
    Mount,
    NameRecord,
    Survey,
)
from ecumen_demo import doors, seals, texts
from ecumen_demo.ground import DemoGround, site_files, small_site

SEED = 2031
DEMO = "ecumen demo"  # by what such a survey was taken
TAKEN_AT = 1_934_010_720  # 2031-04-15 09:12 UTC
# The afternoon when homes were tightened: 2031-04-09 14:02 UTC.
CLOSED_AT = 1_933_509_720
MAIN_ADDRESS = "192.0.2.10"
SECOND_ADDRESS = "192.0.2.11"
CONFIG = "/etc/apache2"
WORKER = 33

# What leads elsewhere, to two servers, and by the server's own file alone.
LED = {
    record.name: record
    for record in (
        NameRecord("brass-hour.example", ("198.51.100.23",), aliases=("pages.tuba.example",)),
        NameRecord("old-customs-house.example", (MAIN_ADDRESS, "2001:db8:77::5")),
        NameRecord("rain-gauge.example", (MAIN_ADDRESS,), "hosts", published=()),
    )
}

SITES = """
    tide-table seed-library ferry repair-cafe choir-of-the-marsh choir-at-the-quay
    boat-builders night-school radio-estuary lighthouse net-menders rowing-club salt-works
    allotments bread-oven bicycle-shed book-exchange chess-corner darkroom eel-watch
    fen-walkers glass-hut harbour-band herb-garden ice-house jetty-swimmers kite-loft
    lantern-walk mud-larks oyster-beds paper-mill pottery quilt-circle reed-cutters
    sail-loft saltmarsh-news ships-chandler signal-box sluice-keepers storm-watch tool-store
    town-archive weather-mast wharf-market winter-kitchen wool-barn
""".split()
# Sites of a few pages.
SMALL_SITES = """
    amber-finders anchor-yard apple-press barge-dwellers beach-sweepers bell-ringers birch-choir
    bottle-post brass-hour buoy-painters cabin-letters candle-makers cartographers chalk-cliff
    cider-night clay-ovens cloud-readers cockle-pickers coast-path compost-club dinghy-school
    driftwood-hall duck-counters dune-keepers estuary-poets fish-smokers foghorn-players
    garden-walls gull-watch hay-barn heron-lodge high-water-band honey-shelf inkwell island-hoppers
    kelp-kitchen knot-tyers lamp-trimmers lime-kiln linen-press log-keepers low-tide-runners
    marsh-frogs memory-box mill-race moon-swimmers mussel-bar needle-and-thread night-ferry
    old-customs-house open-stage orchard-hands pebble-art peat-diggers plum-jam puppet-barge
    rain-gauge reading-room rope-walk sand-yachts sea-wall-watch shell-museum
""".split()
PEOPLE = """
    ines otto mara bela juno piet runa lasse tova emil signe arvid nell casper freda hugo
    ilse jory kaja linus mette nils oda per quinn rosa sven tilde ulf vera wim xenia yrsa
    zeno alma bror cleo dag elin folke gry hans isolde jette knut lova malte noor
""".split()
WITH_PERSONAL_SITE = 40
# The allotments: each has a name, and all but the last two a folder.
GARDENS = """
    apple-bank bean-row beet-bed berry-lane border-six broom-hedge cherry-step chive-edge
    clay-patch clover-end compost-hill corner-plot currant-walk dahlia-bed damson-row dill-strip
    east-frames elder-gate fennel-fold fig-wall frost-hollow gooseberry-end greengage-plot
    hazel-stand hop-poles kale-yard leek-trench long-border lovage-nook mallow-bank marrow-heap
    mint-ditch nettle-rest north-frames onion-square parsnip-row pear-arch plum-walk
    quince-corner rhubarb-end
""".split()
WITHOUT_FOLDER = 2
SHUT_GARDEN = "leek-trench"
CHANGED_SINCE = ("reed-cutters",)  # their configuration is newer than the last reload
LOADED_AT = TAKEN_AT - 9 * 86400
DARK_HOMES = 11
WEEK = 7 * 86400


class Moment(Enum):
    """now: the survey that is shown. as_loaded: with the configuration that the engines last read,
    and not the one on the disk. week_before: before the afternoon when homes were tightened.
    """

    NOW = "now"
    AS_LOADED = "as loaded"
    WEEK_BEFORE = "a week before"


@dataclass
class Plot:
    """One virtual host while it is being written."""

    number: int
    name: str
    owner: Account
    root: str
    binding: str = "*:80"
    aliases: list[str] = field(default_factory=list)
    lines: list[str] = field(default_factory=list)
    own_log: bool = True
    log: str = ""
    log_form: str = "combined"
    by_folder: str = ""  # the pattern of where its sites lie
    beside: str = ""  # another block in its file

    def text(self) -> str:
        domain = f"{self.name}.example"
        lines = [f"<VirtualHost {self.binding}>", f"    ServerName {domain}"]
        if self.aliases:
            lines.append(f"    ServerAlias {' '.join(self.aliases)}")
        if self.by_folder:
            lines += ["    UseCanonicalName Off", f"    VirtualDocumentRoot {self.by_folder}"]
        else:
            lines.append(f"    DocumentRoot {self.root}")
        if self.own_log:
            log = "${APACHE_LOG_DIR}/" + f"{self.log or self.name}.log"
            lines.append(f"    CustomLog {log} {self.log_form}")
        lines += [f"    {line}" for line in self.lines]
        return "\n".join([*lines, "</VirtualHost>", ""]) + self.beside


class _Town:
    def __init__(self, moment: Moment) -> None:
        self.as_loaded = moment is Moment.AS_LOADED
        self.week_before = moment is Moment.WEEK_BEFORE
        self.taken_at = TAKEN_AT - WEEK if self.week_before else TAKEN_AT
        self.rng = random.Random(SEED)
        self.ground = DemoGround(SEED, TAKEN_AT)
        self.texts: dict[str, bytes] = {}
        self.accounts: list[Account] = []
        self.groups: list[Group] = []
        self.plots: list[Plot] = []

    def build(self) -> Survey:
        self._people()
        self._plots()
        self._personal_sites()
        self._gardens()
        self._sealed_sites()
        self._behind_the_filter()
        for story in (*_STORIES, *_MEMBER_STORIES):
            if not (self.week_before and story in _LATELY):
                story(self)
        self._configuration()
        self._second_engine()
        self._template()
        self._age()
        if self.week_before:
            self._a_week_before()
        self._contexts()
        return self._survey()

    # --- who and where ---

    def _people(self) -> None:
        fixed = (("root", 0, "/root"), ("daemon", 1, "/usr/sbin"), ("www-data", 33, "/var/www"))
        for name, uid, home in fixed:
            self.accounts.append(Account(name, uid, uid, home, "/usr/sbin/nologin"))
            self.groups.append(Group(name, uid))
        for number, name in enumerate(PEOPLE):
            uid = 1001 + number
            self.accounts.append(Account(name, uid, uid, f"/home/{name}", "/bin/bash"))
            self.groups.append(Group(name, uid))
        wardens = ("ines",) if self.week_before else ("ines", "otto")
        self.groups.append(Group("wardens", 900, wardens))
        for name in (
            "/home",
            "/srv/sites",
            "/srv/shared",
            "/srv/backup",
            "/var/log/apache2",
            "/etc",
            "/run",
        ):
            self.ground.folder(name)
        self.ground.file("/srv/shared/tide.svg")
        for person in self.people:
            self.ground.folder(person.home, 0o755, person.uid, person.gid)

    @property
    def people(self) -> list[Account]:
        return self.accounts[3:]

    def account(self, name: str) -> Account:
        return next(account for account in self.accounts if account.name == name)

    def plot(self, name: str) -> Plot:
        return next(plot for plot in self.plots if plot.name == name)

    def _plots(self) -> None:
        for number, name in enumerate(SITES):
            owner = self.people[number % len(self.people)]
            plot = Plot(number, name, owner, f"/srv/sites/{name}/public")
            if self.rng.random() < 0.7:
                plot.aliases.append(f"www.{name}.example")
            plot.own_log = self.rng.random() < 0.9
            self.plots.append(plot)
            self.ground.folder(f"/srv/sites/{name}", 0o755, owner.uid, owner.gid)
            site_files(self.ground, plot.root, owner.uid, owner.gid, self.rng, "index.html")
        for number, name in enumerate(SMALL_SITES, len(SITES)):
            owner = self.people[number * 7 % len(self.people)]
            plot = Plot(number, name, owner, f"/srv/sites/{name}/public")
            self.plots.append(plot)
            self.ground.folder(f"/srv/sites/{name}", 0o755, owner.uid, owner.gid)
            small_site(self.ground, plot.root, owner.uid, owner.gid)

    def _personal_sites(self) -> None:
        for person in self.people[:WITH_PERSONAL_SITE]:
            folder = f"{person.home}/public_html"
            site_files(self.ground, folder, person.uid, person.gid, self.rng, "index.html")

    def _gardens(self) -> None:
        """One block, and a folder for each name; two were never made, and one is called otherwise
        than anybody can ask for.
        """
        plot = Plot(len(self.plots), "gardens", self.account("elin"), "/srv/gardens")
        plot.aliases.append("*.gardens.example")
        plot.by_folder, plot.log_form = "/srv/gardens/%1/public", "asked"
        plot.lines += ["<Directory /srv/gardens>", "    Require all granted", "</Directory>"]
        self.plots.append(plot)
        for number, name in enumerate((plot.name, *GARDENS[:-WITHOUT_FOLDER], "Quince-Corner")):
            owner = self.people[(number * 3 + 11) % len(self.people)]
            self.ground.folder(f"/srv/gardens/{name}", 0o755, owner.uid, owner.gid)
            small_site(self.ground, f"/srv/gardens/{name}/public", owner.uid, owner.gid)
        self.ground.change(f"/srv/gardens/{SHUT_GARDEN}", mode=0o700)

    def _sealed_sites(self) -> None:
        """Each has a block for TLS, and one for plain HTTP that leads over to it, or does not."""
        self.ground.folder(seals.FOLDER)
        for site in seals.SITES:
            number = len(self.plots)
            owner = self.people[(number * 5 + 3) % len(self.people)]
            plot = Plot(number, site.name, owner, f"/srv/sites/{site.name}/public", "*:443")
            plot.lines += seals.lines(site)
            plain = Plot(number, site.name, owner, plot.root)
            if not site.plain:
                plain.lines.append(f"Redirect permanent / https://{site.name}.example/")
            plot.beside = plain.text()
            self.plots.append(plot)
            self.ground.folder(f"/srv/sites/{site.name}", 0o755, owner.uid, owner.gid)
            small_site(self.ground, plot.root, owner.uid, owner.gid)
            self.ground.file(seals.crt(site), 2900)
            self.ground.file(seals.key(site), 1700 if site.rsa else 241, site.mode)

    def _behind_the_filter(self) -> None:
        """Put on a port of its own in winter; nobody told the filter."""
        number = len(self.plots)
        owner = self.people[number * 5 % len(self.people)]
        plot = Plot(number, "chart-room", owner, "/srv/sites/chart-room/public", "*:8008")
        self.plots.append(plot)
        self.ground.folder(f"/srv/sites/{plot.name}", 0o755, owner.uid, owner.gid)
        small_site(self.ground, plot.root, owner.uid, owner.gid)

    # --- the configuration as it lies on disk ---

    def _text(self, path: str, text: str) -> None:
        self.texts[path] = text.encode()
        self.ground.file(path, len(text))

    def _configuration(self) -> None:
        self._text(f"{CONFIG}/apache2.conf", texts.MAIN)
        self._text(f"{CONFIG}/ports.conf", texts.PORTS)
        self._text("/etc/mime.types", texts.TYPES)
        for module in texts.MODULES:
            line = f"LoadModule {module}_module /usr/lib/apache2/modules/mod_{module}.so\n"
            self._enabled("mods", f"{module}.load", line)
            if module in texts.MODULE_SETTINGS:
                self._enabled("mods", f"{module}.conf", texts.MODULE_SETTINGS[module])
        self.ground.folder(f"{CONFIG}/conf-enabled")
        for plot in self.plots:
            name = f"{plot.number:03d}-{plot.name}.conf"
            self._enabled("sites", name, plot.text())
        self._text(f"{CONFIG}/sites-available/050-moor-singers.conf", texts.PARKED)
        for plot in self.plots:
            name = f"{plot.number:03d}-{plot.name}.conf"
            if plot.name in CHANGED_SINCE and not self.week_before:
                written = f"{CONFIG}/sites-available/{name}"
                self.ground.change(written, changed=TAKEN_AT - 20 * 3600, written=True)

    def _template(self) -> None:
        """New homes are closed since the afternoon when those that are there were."""
        self.ground.folder("/etc/skel")
        self.ground.file("/etc/skel/welcome.txt", 240)
        mode = "0755" if self.week_before else "0700"
        self._text(
            "/etc/login.defs", f"# How accounts are made.\nUMASK\t\t022\nHOME_MODE\t{mode}\n"
        )

    def _age(self) -> None:
        """The engines have read what stands in their configuration, but for what changed since."""
        for path, entry in list(self.ground.entries.items()):
            known = any(f"-{name}." in path for name in CHANGED_SINCE)
            if path.startswith("/etc/") and entry.mtime > LOADED_AT * 10**9 and not known:
                self.ground.change(path, changed=LOADED_AT - 20 * 86400, written=True)

    def _a_week_before(self) -> None:
        """What was written since then stood there in an earlier version."""
        for path, entry in list(self.ground.entries.items()):
            if entry.mtime > self.taken_at * 10**9:
                at = self.taken_at - 30 * 86400
                self.ground.change(path, changed=at, written=True)
                if entry.kind is Kind.FILE and not path.startswith("/etc/"):
                    self.ground.entries[path] = replace(
                        self.ground.entries[path], size=entry.size * 7 // 8
                    )

    def _second_engine(self) -> None:
        """A few sites that are served by nginx, on a port of its own."""
        self._text("/etc/nginx/nginx.conf", texts.NGINX)
        self._text("/etc/nginx/mime.types", texts.NGINX_TYPES)
        self.ground.folder("/var/log/nginx")
        for number, (name, body) in enumerate(texts.NGINX_SITES.items()):
            owner = self.people[number]
            root = f"/srv/sites/{name}/public"
            self.ground.folder(f"/srv/sites/{name}", 0o755, owner.uid, owner.gid)
            site_files(self.ground, root, owner.uid, owner.gid, self.rng, "index.html")
            for folder, file in (("archive", "2031.html"), ("found", "index.html")):
                self.ground.folder(f"{root}/{folder}", 0o755, owner.uid, owner.gid)
                self.ground.file(f"{root}/{folder}/{file}", 900, uid=owner.uid, gid=owner.gid)
            text = (
                f"server {{\n    listen 8088;\n    server_name {name}.example;\n"
                f"    root {root};\n    access_log /var/log/nginx/{name}.log;\n{body}}}\n"
            )
            self._text(f"/etc/nginx/sites-available/{name}", text)
            self.ground.link(f"/etc/nginx/sites-enabled/{name}", f"../sites-available/{name}")

    def _enabled(self, kind: str, name: str, text: str) -> None:
        self._text(f"{CONFIG}/{kind}-available/{name}", text)
        self.ground.link(f"{CONFIG}/{kind}-enabled/{name}", f"../{kind}-available/{name}")

    def _labels(self) -> Labels:
        """The reference policy in force, with one port added."""
        policy = shipped_policy()
        ports = policy.ports + texts.ADDED_PORT
        return Labels(texts.CONTEXT_RULES, replace(policy, ports=ports, shipped=False))

    def _contexts(self) -> None:
        """Everything has the context that the rules give it, but for what the stories changed."""
        rules = ContextRules(texts.CONTEXT_RULES)
        for path, entry in self.ground.entries.items():
            if entry.context is None:
                given = rules.expected(path, entry.kind).context
                self.ground.entries[path] = replace(entry, context=given)

    def _survey(self) -> Survey:
        names = {f"{plot.name}.example" for plot in self.plots}
        names |= {f"{name}.example" for name in texts.NGINX_SITES}
        names |= {alias for plot in self.plots for alias in plot.aliases if alias[0] != "*"}
        names |= {f"{name}.gardens.example" for name in GARDENS}
        records = [NameRecord(name, (MAIN_ADDRESS,)) for name in sorted(names)]
        records.append(NameRecord("quay.saltmarsh.example", (MAIN_ADDRESS,)))
        # Names that visitors know, whatever the configuration claims.
        records.append(NameRecord("www.seed-library.example", (MAIN_ADDRESS,)))
        records = [LED.get(record.name, record) for record in records]
        return Survey(
            host="quay",
            taken_at=self.taken_at,
            taken_by=DEMO,
            engines=(
                EngineRecord(
                    "httpd",
                    f"{CONFIG}/apache2.conf",
                    "2.4.66",
                    CONFIG,
                    texts.BUILT_IN,
                    environment=texts.ENVIRONMENT,
                    running=True,
                    loaded_at=LOADED_AT,
                ),
                EngineRecord(
                    "nginx",
                    "/etc/nginx/nginx.conf",
                    "1.22.1",
                    "/usr/share/nginx",
                    running=True,
                    loaded_at=LOADED_AT,
                ),
            ),
            files=self.ground.table(),
            accounts=tuple(self.accounts),
            groups=tuple(self.groups),
            listeners=(
                Listener("0.0.0.0", 80, "apache2", 612),
                Listener("0.0.0.0", 443, "apache2", 612),
                Listener("0.0.0.0", 8008, "apache2", 612),
                Listener("0.0.0.0", 8080, "apache2", 612),
                Listener("0.0.0.0", 8088, "nginx", 640),
                Listener("0.0.0.0", 22, "sshd", 488),
                Listener("127.0.0.1", 9310, "players", 702),
            ),
            names=tuple(records),
            addresses=("127.0.0.1", "::1", MAIN_ADDRESS, SECOND_ADDRESS, "2001:db8::10"),
            texts=self.texts,
            kernel={"security.mode": "enforcing", "fs.protected_symlinks": "1"},
            mounts=(
                Mount("/", "ext4"),
                Mount("/home", "ext4"),
                Mount("/srv/sites", "xfs"),
                Mount("/srv/backup", "ext4", read_only=True),
            ),
            labels=self._labels(),
            seals=seals.files(self.taken_at),
            filter=doors.packet_filter(
                {
                    "lo": ("127.0.0.1", "::1"),
                    "ens3": (MAIN_ADDRESS, SECOND_ADDRESS, "2001:db8::10"),
                }
            ),
        )


# --- what has gone wrong, one story each ---


def _typo_in_an_alias(town: _Town) -> None:
    """The tide table, first in line, answers for the seed library's usual name."""
    town.plot("seed-library").aliases[:] = ["wwww.seed-library.example"]
    # Its lines say which name was asked for.
    town.plot("tide-table").log_form = "asked"
    town.plot("tide-table").own_log = True


def _two_choirs(town: _Town) -> None:
    town.plot("choir-of-the-marsh").aliases.append("choir.example")
    town.plot("choir-at-the-quay").aliases.append("choir.example")


def _moved_to_a_dead_port(town: _Town) -> None:
    town.plot("repair-cafe").binding = "*:8090"


def _still_closed(town: _Town) -> None:
    plot = town.plot("night-school")
    plot.lines += [f"<Directory {plot.root}>", "    Require local", "</Directory>"]


def _opened_but_not_read(town: _Town) -> None:
    """Opened again yesterday; the engine still holds what was there before."""
    plot = town.plot("reed-cutters")
    rule = "Require local" if town.as_loaded else "Require all granted"
    plot.lines += [f"<Directory {plot.root}>", f"    {rule}", "</Directory>"]


def _one_inside_another(town: _Town) -> None:
    """The eel watch lies in the ground of the fen walkers, who show it too."""
    outer, plot = town.plot("fen-walkers"), town.plot("eel-watch")
    plot.root = f"{outer.root}/eels"
    town.ground.remove("/srv/sites/eel-watch")
    town.ground.folder(plot.root, 0o755, plot.owner.uid, plot.owner.gid)
    for name in ("index.html", "counts.html"):
        town.ground.file(f"{plot.root}/{name}", 1200, uid=plot.owner.uid, gid=plot.owner.gid)


def _left_lying_about(town: _Town) -> None:
    """A dump of the members' list, and the history of the site itself."""
    plot = town.plot("harbour-band")
    for name, size in (("members.sql", 48_200), (".git/HEAD", 21), (".git/config", 130)):
        town.ground.file(f"{plot.root}/{name}", size, uid=plot.owner.uid, gid=plot.owner.gid)


def _styles_as_text(town: _Town) -> None:
    town.plot("quilt-circle").lines.append("AddType text/plain .css")


def _only_the_town(town: _Town) -> None:
    plot = town.plot("town-archive")
    plot.lines += [f"<Directory {plot.root}>", "    Require ip 198.51.100.0/24", "</Directory>"]


def _no_rule(town: _Town) -> None:
    """Its files lie where no rule opens anything."""
    plot = town.plot("weather-mast")
    plot.root = "/data/weather"
    site_files(town.ground, plot.root, plot.owner.uid, plot.owner.gid, town.rng, "index.html")


def _root_gone(town: _Town) -> None:
    plot = town.plot("ice-house")
    town.ground.remove(plot.root)


def _no_index(town: _Town) -> None:
    plot = town.plot("glass-hut")
    town.ground.remove(f"{plot.root}/index.html")


def _doubled_ending(town: _Town) -> None:
    plot = town.plot("pottery")
    town.ground.remove(f"{plot.root}/index.html")
    town.ground.file(f"{plot.root}/index.html.txt", 812, uid=plot.owner.uid, gid=plot.owner.gid)


def _empty_index(town: _Town) -> None:
    plot = town.plot("kite-loft")
    town.ground.file(f"{plot.root}/index.html", 0, uid=plot.owner.uid, gid=plot.owner.gid)


def _private_index(town: _Town) -> None:
    town.ground.change(f"{town.plot('oyster-beds').root}/index.html", mode=0o600)


def _closed_folders(town: _Town) -> None:
    """Three doors, one behind the other."""
    plot = town.plot("boat-builders")
    town.ground.change(f"/srv/sites/{plot.name}", mode=0o700)
    town.ground.change(plot.root, mode=0o750)
    town.ground.change(f"{plot.root}/index.html", mode=0o640)


def _cut_by_the_mask(town: _Town) -> None:
    plot = town.plot("paper-mill")
    acl = "user::rwx,user:33:r-x,group::---,mask::--x,other::---"
    town.ground.change(f"/srv/sites/{plot.name}", mode=0o710, acl=acl)
    acl = "user::rw-,user:33:r--,group::---,mask::-w-,other::---"
    town.ground.change(f"{plot.root}/index.html", mode=0o620, acl=acl)


def _one_log_for_two(town: _Town) -> None:
    """The moon swimmers' block was copied from the mill race's, log and all."""
    town.plot("moon-swimmers").log = "mill-race"


def _log_without_a_folder(town: _Town) -> None:
    town.plot("knot-tyers").log = "knots/visitors"


def _readable_by_neighbours(town: _Town) -> None:
    """Otto's passwords lie open to everybody, the radio's to a group of two."""
    otto = town.account("otto")
    town.ground.file(f"{otto.home}/public_html/config.ini", 310, 0o644, otto.uid, otto.gid)
    radio = town.plot("radio-estuary")
    town.ground.file(f"{radio.root}/settings.yaml", 420, 0o640, radio.owner.uid, 900)


def _foreign_link(town: _Town) -> None:
    plot = town.plot("mud-larks")
    index = f"{plot.root}/index.html"
    town.ground.remove(index)
    town.ground.link(index, "/home/otto/public_html/index.html", plot.owner.uid, plot.owner.gid)


def _dead_link(town: _Town) -> None:
    plot = town.plot("signal-box")
    town.ground.remove(f"{plot.root}/index.html")
    owner = plot.owner
    town.ground.link(f"{plot.root}/index.html", "../old/index.html", owner.uid, owner.gid)


def _override_file(town: _Town) -> None:
    plot = town.plot("wharf-market")
    plot.lines += [f"<Directory {plot.root}>", "    AllowOverride All", "</Directory>"]
    path = f"{plot.root}/.htaccess"
    town.ground.file(path, 92, uid=plot.owner.uid, gid=plot.owner.gid)
    town.texts[path] = b"DirectoryIndex market.html\nOptions -Indexes\n"


def _front_controller(town: _Town) -> None:
    """Whatever is not there is led to one page, by an override file."""
    plot = town.plot("saltmarsh-news")
    plot.lines += [f"<Directory {plot.root}>", "    AllowOverride FileInfo", "</Directory>"]
    path = f"{plot.root}/.htaccess"
    lines = (
        "RewriteEngine On",
        "RewriteRule ^issue/(\\d+)$ archive.html?issue=$1 [L,QSA]",
        "RewriteCond %{REQUEST_FILENAME} !-f",
        "RewriteCond %{REQUEST_FILENAME} !-d",
        "RewriteRule ^ index.html [L]",
    )
    text = "\n".join(lines) + "\n"
    owner = plot.owner
    town.ground.file(path, len(text), uid=owner.uid, gid=owner.gid)
    town.texts[path] = text.encode()
    town.ground.file(f"{plot.root}/archive.html", 4100, uid=owner.uid, gid=owner.gid)


def _own_address(town: _Town) -> None:
    town.plot("radio-estuary").binding = f"{SECOND_ADDRESS}:80"
    town.plot("ferry").binding = "*:80 *:8080"


def _no_links(town: _Town) -> None:
    """The new folder is a link, and links are not followed there."""
    plot = town.plot("sail-loft")
    town.ground.folder("/srv/sites/sail-loft/spring", 0o755, plot.owner.uid, plot.owner.gid)
    town.ground.remove(plot.root)
    town.ground.link(plot.root, "spring", plot.owner.uid, plot.owner.gid)
    plot.lines += ["<Directory /srv/sites/sail-loft>", "    Options None", "</Directory>"]


def _closed_for_the_winter(town: _Town) -> None:
    plot = town.plot("jetty-swimmers")
    plot.lines += ["<Location />", "    Require all denied", "</Location>"]


def _group_without_the_worker(town: _Town) -> None:
    town.ground.change("/srv/sites/lantern-walk", mode=0o2750)


def _folder_as_index(town: _Town) -> None:
    plot = town.plot("herb-garden")
    town.ground.remove(f"{plot.root}/index.html")
    owner = plot.owner
    town.ground.folder(f"{plot.root}/index.html", 0o755, owner.uid, owner.gid)


def _open_listing(town: _Town) -> None:
    plot = town.plot("tool-store")
    town.ground.remove(f"{plot.root}/index.html")
    plot.lines += [f"<Directory {plot.root}>", "    Options +Indexes", "</Directory>"]


def _copied_from_backup(town: _Town) -> None:
    """Three sites were copied back, and carry the context of the backup volume."""
    for name in ("barge-dwellers", "lime-kiln", "rope-walk"):
        town.ground.label(town.plot(name).root, "backup_store_t")


def _handed_on(town: _Town) -> None:
    """The players' own program answers; the policy does not let the engine connect to it."""
    plot = town.plot("foghorn-players")
    plot.lines.append("ProxyPass / http://127.0.0.1:9310/")


_STORIES: tuple[Callable[[_Town], None], ...] = (
    _typo_in_an_alias, _two_choirs, _moved_to_a_dead_port, _still_closed, _opened_but_not_read,
    _one_inside_another, _left_lying_about, _styles_as_text, _only_the_town, _no_rule, _root_gone,
    _no_index, _doubled_ending, _empty_index,
    _private_index, _closed_folders,
    _cut_by_the_mask, _foreign_link, _dead_link, _override_file, _own_address, _open_listing,
    _front_controller, _no_links, _closed_for_the_winter, _group_without_the_worker,
    _folder_as_index, _copied_from_backup, _handed_on,
    _readable_by_neighbours, _one_log_for_two, _log_without_a_folder,
)  # fmt: skip


def _dark_homes(town: _Town) -> None:
    """Eleven homes were tightened in one afternoon."""
    for person in town.people[4 : 4 + DARK_HOMES]:
        town.ground.change(person.home, mode=0o700, changed=CLOSED_AT)
    # Behind one of the closed homes the next obstacle waits.
    ines = town.account("ines")
    town.ground.change(ines.home, mode=0o700, changed=CLOSED_AT)
    town.ground.change(f"{ines.home}/public_html", mode=0o750)


def _made_by_the_administrator(town: _Town) -> None:
    tilde = town.account("tilde")
    town.ground.change(f"{tilde.home}/public_html", mode=0o700, owner=(0, 0))


def _opened_to_the_world(town: _Town) -> None:
    rosa = town.account("rosa")
    for path in (rosa.home, f"{rosa.home}/public_html", f"{rosa.home}/public_html/index.html"):
        town.ground.change(path, mode=0o777)


def _moved_into_place(town: _Town) -> None:
    """Pages that were moved from elsewhere in the home keep the context that they had there."""
    for name in ("zeno", "alma", "bror", "cleo"):
        town.ground.label(f"/home/{name}/public_html", "user_home_t")


def _member_without_index(town: _Town) -> None:
    for name in ("sven", "ulf", "oda"):
        town.ground.remove(f"/home/{name}/public_html/index.html")
    # Listings are shown in homes, but not where the folder cannot be read.
    town.ground.change("/home/oda/public_html", mode=0o711)


_MEMBER_STORIES: tuple[Callable[[_Town], None], ...] = (
    _dark_homes, _made_by_the_administrator, _opened_to_the_world, _member_without_index,
    _moved_into_place,
)  # fmt: skip


# What happened in the last week.
_LATELY = (
    _dark_homes, _opened_but_not_read, _moved_to_a_dead_port, _left_lying_about, _root_gone,
    _opened_to_the_world, _copied_from_backup,
)  # fmt: skip


def demo_survey(moment: Moment = Moment.NOW) -> Survey:
    """The survey of the demo server, the same every time."""
    return _Town(moment).build()
