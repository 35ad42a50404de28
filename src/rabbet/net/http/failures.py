"""libcurl's errors → the most specific true sentence for the user."""

from typing import NamedTuple

import pycurl

from rabbet.core.limits import LEAST_SPEED, MOST_PAGE
from rabbet.errors import SourceFailed
from rabbet.formats.text.address import parse_address, shown
from rabbet.net.http.wire import FAULT, Ended

__all__ = ["failure", "is_passing", "refused", "too_large"]

_UNREACHABLE = "a source can't be reached"
_BROKEN = "a source's answer broke off or is not valid"
_UNTRUSTED = "a source's certificate is not trusted"
_SLOW = "a source answers too slowly"
_NOTHING = "nothing answers there: "
_CHECK = "check the network, and the source's address in pyproject.toml"
_AGAIN = "try again; if it stays so, the source is broken"
_AUTHORITY = "if your organisation has a CA of its own, SSL_CERT_FILE names its certificate"
_AUTHORITIES = "the certificates of authorities to trust can't be used"
_NAME_FILES = (
    "SSL_CERT_FILE names a file of certificates, SSL_CERT_DIR a folder; without them the system's are taken"
)
_PROXY = "check the proxy that http_proxy or https_proxy names"


class _Said(NamedTuple):
    """The message for a code; `why` is empty when libcurl's own words say it best."""

    what: str
    why: str
    note: str
    passing: bool = True  # whether another try may help


# By libcurl's codes (libcurl-errors(3)); pycurl has no names for those that stand here as numbers.
_SAID = {
    pycurl.E_COULDNT_RESOLVE_HOST: _Said(_UNREACHABLE, "its name is not known to the network", _CHECK),
    pycurl.E_COULDNT_RESOLVE_PROXY: _Said(
        _UNREACHABLE, "the proxy's name is not known to the network", _PROXY
    ),
    97: _Said(_UNREACHABLE, "", _PROXY),
    pycurl.E_SSL_CONNECT_ERROR: _Said(_UNREACHABLE, "", _CHECK),
    pycurl.E_PEER_FAILED_VERIFICATION: _Said(_UNTRUSTED, "", _AUTHORITY, passing=False),
    pycurl.E_SSL_CACERT_BADFILE: _Said(_AUTHORITIES, "", _NAME_FILES, passing=False),
    pycurl.E_SSL_ISSUER_ERROR: _Said(_UNTRUSTED, "", _AUTHORITY, passing=False),
    pycurl.E_SSL_CERTPROBLEM: _Said(_UNTRUSTED, "", _AUTHORITY, passing=False),
    pycurl.E_GOT_NOTHING: _Said(_BROKEN, "it closed the connection without an answer", _AGAIN),
    pycurl.E_BAD_CONTENT_ENCODING: _Said(
        _BROKEN, "it says that it is compressed, and can't be unpacked", _AGAIN, passing=False
    ),
    8: _Said(_BROKEN, "what answers there does not speak HTTP", _CHECK, passing=False),
    pycurl.E_UNSUPPORTED_PROTOCOL: _Said(
        _BROKEN, "what answers there does not speak HTTP", _CHECK, passing=False
    ),
    100: _Said(_BROKEN, "its headers are larger than any should be", _AGAIN, passing=False),
    FAULT: _Said("a source can't be asked", "", "this is a fault of Rabbet: please report it", passing=False),
    pycurl.E_HTTP2: _Said(_BROKEN, "", _AGAIN),
}
# 92 is a stream of HTTP/2 that the source broke off (RFC 9113, section 5.4.2).
_BROKEN_OFF = (pycurl.E_PARTIAL_FILE, pycurl.E_RECV_ERROR, pycurl.E_SEND_ERROR, 92)


def failure(address: str, ended: Ended, *, proxied: bool) -> SourceFailed:
    """The failure for a transfer that did not come to its end, perhaps through a proxy."""
    said = _said(ended)
    if proxied and said.why.startswith(_NOTHING):
        said = said._replace(why=f"the proxy is not there: {said.why.removeprefix(_NOTHING)}", note=_PROXY)
    return SourceFailed(said.what, because=[shown(address), said.why or _words(ended)], note=said.note)


def is_passing(ended: Ended) -> bool:
    """Whether another try may help."""
    return _said(ended).passing


def _said(ended: Ended) -> _Said:
    if ended.head.status == 407 or "CONNECT" in ended.words:
        return _Said(_UNREACHABLE, _of_proxy(ended), _PROXY, passing=False)
    if ended.code == pycurl.E_COULDNT_CONNECT:
        refused = "refused" in ended.words or "Could not connect" in ended.words
        why = f"{_NOTHING}the connection was refused" if refused else ""
        return _Said(_UNREACHABLE, why, _CHECK)
    if ended.code == pycurl.E_OPERATION_TIMEDOUT:
        if "too slow" in ended.words:
            return _Said(_SLOW, f"less than {LEAST_SPEED} bytes a second came", _CHECK)
        if ended.head.status:
            return _Said(_SLOW, "it was not complete in time", _CHECK, passing=False)
        return _Said(_UNREACHABLE, f"{_NOTHING}connecting takes too long", _CHECK)
    if ended.code in _BROKEN_OFF:
        return _Said(_BROKEN, f"the answer broke off after {ended.received} bytes", _AGAIN)
    return _SAID.get(ended.code) or _Said(_UNREACHABLE, "", _CHECK)


def _of_proxy(ended: Ended) -> str:
    if ended.head.status == 407:
        return "the proxy wants a user name and a password, in the variable that names it"
    return f"the proxy refuses: it answers {ended.head.status}" if ended.head.status else ""


def _words(ended: Ended) -> str:
    return ended.words.strip() or f"libcurl's code {ended.code}"


def too_large(address: str) -> SourceFailed:
    """The failure for a page beyond any bound."""
    return SourceFailed(
        "a source's answer is larger than any page should be",
        because=[f"{shown(address)}: more than {MOST_PAGE // 1_000_000} MB"],
    )


def refused(address: str, status: int) -> SourceFailed:
    """The failure for an answer with a status that can't be used."""
    return SourceFailed(
        f"a source answered with status {status}",
        because=[shown(address)],
        note=_advice(address, status),
    )


def _advice(address: str, status: int) -> str:
    if status in (401, 403):
        if not parse_address(address).is_private:
            return "credentials are sent over https only: over http, others could read them on the way"
        return (
            "credentials come from an entry of this host in your netrc file, or from the variables"
            " RABBET_SOURCE_<NAME>_USERNAME and _PASSWORD, with this host's address in _ORIGIN"
        )
    return "try again later; if it stays so, check the source's address in pyproject.toml"
