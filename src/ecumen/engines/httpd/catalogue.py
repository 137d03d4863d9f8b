"""Which directives leave an answer as it is. Whatever stands neither here nor among those that are
evaluated makes the requests in its reach unsure.

An answer is: the site, the status, the Location, the content type, the file and the log.
"""

from __future__ import annotations

# Processed while the file is read, or about the server as a whole and not about an answer.
PROCESS = frozenset(
    """
    acceptfilter bufferedlogs coredumpdirectory customlog defaultruntimedir define
    enableexceptionhook errorlog errorlogformat extendedstatus gracefulshutdowntimeout
    hostnamelookups httpdversion include includeoptional keepalive keepalivetimeout listen
    listenbacklog loadfile loadmodule logformat loglevel maxclients maxconnectionsperchild
    maxkeepaliverequests maxmemfree maxrangeoverlaps maxrangereversals maxranges
    maxrequestsperchild maxrequestworkers maxspareservers maxsparethreads minspareservers
    minsparethreads mutex namevirtualhost pidfile protocol proxystatus receivebuffersize
    requestreadtimeout scoreboardfile scriptlog sendbuffersize serveradmin serverlimit
    serverroot serversignature servertokens startservers startthreads threadlimit
    threadsperchild threadstacksize timeout transferlog undefine seerequesttail
    registerhttpmethod warning asyncrequestworkerfactor globallog modulesremaining
""".split()
)

# About the body, its coding, headers beside those of the answer, caches, variables.
NO_EFFECT = frozenset(
    """
    addalt addaltbyencoding addaltbytype adddescription addicon addiconbyencoding
    addiconbytype addoutputfilter addoutputfilterbytype browsermatch browsermatchnocase
    cachenegotiateddocs contentdigest defaulticon defaultlanguage deflatebuffersize
    deflatecompressionlevel deflatefilternote deflateinflatelimitrequestbody
    deflateinflateratioburst deflateinflateratiolimit deflatememlevel deflatewindowsize
    enablemmap enablesendfile expiresactive expiresbytype expiresdefault fileetag
    forcelanguagepriority headername indexheadinsert indexignore indexignorereset
    indexorderdefault indexstylesheet languagepriority limitinternalrecursion passenv
    readmename setenv setenvif setenvifnocase setenvifexpr seerequest ssiendtag ssierrormsg
    ssistarttag ssitimeformat ssiundefinedecho unsetenv usercgi userdirumask xbithack
    brotlicompressionquality brotlifilternote brotlicompressionwindow
    brotlicompressionmaxinputblock ssletag ssilastmodified ssilegacyexprparser
    sslcertificatefile sslcertificatekeyfile sslcertificatechainfile sslprotocol
    sslciphersuite sslhonorcipherorder sslsessioncache sslsessioncachetimeout
    sslpassphrasedialog sslrandomseed sslcryptodevice sslcompression sslsessiontickets
    sslusestapling sslstaplingcache cgidscriptsock scriptsock protocols protocolshonororder
    authbasicprovider authuserfile authgroupfile authtype authname authmerging loadbalancer
    filterdeclare
""".split()
)

# Evaluated per folder (settings.py), per server (server.py), or once (server.py).
FOLDER = frozenset(
    """
    adddefaultcharset addcharset addencoding addhandler addlanguage addtype allowoverride
    allowoverridelist authmerging authname authtype directoryindex directoryslash
    errordocument forcetype indexoptions options removecharset removeencoding removehandler
    removelanguage removetype require sethandler usecanonicalname usecanonicalphysicalport
    header
""".split()
)
SERVER = frozenset(
    """
    accessfilename alias aliasmatch customlog documentroot proxypass proxypassmatch
    proxypassreverse redirect redirectmatch redirectpermanent redirecttemp scriptalias
    scriptaliasmatch serveralias servername sslengine transferlog typesconfig userdir user
    group traceenable rewriteengine proxyrequests
""".split()
)
