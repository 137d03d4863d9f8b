"""Which directives leave an answer as it is. Whatever stands neither here nor among those that are
evaluated makes the requests in its reach unsure.

An answer is: the site, the status, the Location, the content type, the file and the log.
"""

from __future__ import annotations

from ecumen.engines.tree import Directive

# Processed while the file is read, or about the server as a whole and not about an answer.
PROCESS = frozenset(
    """
    acceptfilter bufferedlogs coredumpdirectory defaultruntimedir define enableexceptionhook
    errorlogformat extendedstatus gracefulshutdowntimeout hostnamelookups include
    includeoptional keepalive keepalivetimeout listen listenbacklog loadfile loadmodule
    logformat loglevel maxclients maxconnectionsperchild maxkeepaliverequests maxmemfree
    maxrangeoverlaps maxrangereversals maxranges maxrequestsperchild maxrequestworkers
    maxspareservers maxsparethreads minspareservers minsparethreads mutex namevirtualhost
    pidfile protocol proxystatus receivebuffersize requestreadtimeout scoreboardfile
    scriptlog sendbuffersize serverlimit serverroot serversignature servertokens
    startservers startthreads threadlimit threadsperchild threadstacksize timeout undefine
    seerequesttail <macro use undefmacro registerhttpmethod warning
    asyncrequestworkerfactor globallog
""".split()
)

# About the body, its coding, headers beside those of the answer, caches, variables.
NO_EFFECT = frozenset(
    """
    addalt addaltbyencoding addaltbytype adddescription addicon addiconbyencoding
    addiconbytype addoutputfilterbytype setoutputfilter setinputfilter limitrequestbody
    limitrequestfields limitrequestfieldsize limitxmlrequestbody <proxy <proxymatch
    balancermember suexecusergroup maxclientsvhost nicevalue limituidrange limitgidrange
    rlimitcpu rlimitmem rlimitnproc substitute php_value php_flag php_admin_value
    php_admin_flag browsermatch browsermatchnocase cachenegotiateddocs contentdigest
    defaulticon defaultlanguage enablemmap enablesendfile forcelanguagepriority
    headername indexheadinsert indexignore indexignorereset indexorderdefault
    indexstylesheet languagepriority limitinternalrecursion passenv readmename setenv
    setenvif setenvifnocase setenvifexpr unsetenv xbithack cgidscriptsock scriptsock
    protocols protocolshonororder authtype authname authmerging filterdeclare defaulttype
    cgipassauth cgivar flushmaxpipelined flushmaxthreshold mergetrailers qualifyredirecturl
    readbuffersize serverpath filterchain filterprotocol filterprovider filtertrace
    cgidscripttimeout cgiscripttimeout scriptlogbuffer scriptloglength metadir metasuffix
    removeinputfilter removeoutputfilter xml2encalias xml2encdefault xml2startparse
    <authzprovideralias <authnprovideralias authzsendforbiddenonfailure mmapfile suexec
    extfilterdefine extfilteroptions identitycheck identitychecktimeout inputsed outputsed
    listencoresbucketsratio listentcpdeferaccept macroignorebadnesting macroignoreemptyargs
    redisconnpoolttl redistimeout substituteinheritbefore substitutemaxlinelength addmoduleinfo
    allowconnect anonymous buffersize casefilter casefilterin davgenericlockdb davlockdb
    davbasepath davdepthinfinity davlockdiscovery davmintimeout forensiclog keptbodysize
    logiotrackttfb logmessage memcacheconnttl reflectorheader watchdoginterval balancergrowth
    balancerinherit balancerpersist noproxy <mdomain <mdomainset
    remoteipinternalproxy remoteipinternalproxylist remoteipproxiesheader
    remoteipproxyprotocolexceptions remoteiptrustedproxy remoteiptrustedproxylist
""".split()
)

# Whole families that say nothing of plain requests for files, but for the members named here.
_FAMILIES = (
    "serveradm", "ssl", "proxy", "h2", "expires", "deflate", "brotli", "ssi", "auth", "ldap", "dbd",
    "cookie", "session", "md", "cache", "imap", "dumpio", "heartbeat",
    # Of modules of other packages: how programs are kept running, and what they are told.
    "wsgi", "fcgid", "jk", "xsendfile",
)  # fmt: skip
_BUT = frozenset(
    """
    sslengine sslrequire sslrequiressl sslverifyclient ssloptions proxypass proxypassmatch
    proxyrequests proxyblock authmerging authtype authname mdrequirehttps
    cacheenable cachefile proxyhtmlenable
    wsgiscriptalias wsgiscriptaliasmatch wsgihandlerscript wsgidispatchscript wsgiaccessscript
    wsgiauthuserscript wsgiauthgroupscript fcgidwrapper fcgidaccesschecker fcgidauthenticator
    fcgidauthorizer jkmount jkunmount jkmountfile jkmountcopy jkautoalias jkautomount jkstripsession
""".split()
)


# Of "SSLOptions": what programs are told, and how certificates are asked for again.
_TOLD = frozenset("stdenvvars exportcertdata legacydnstringformat optrenegotiate".split())


def leaves_answer(directive: Directive) -> bool:
    """Whether a directive leaves an answer as it is."""
    name = directive.name.lower()
    if name == "ssloptions":
        return {word.lower().lstrip("+-") for word in directive.text.split()} <= _TOLD
    return name in NO_EFFECT or name in PROCESS or (name.startswith(_FAMILIES) and name not in _BUT)
