"""Well-known forms by their open standards: addresses, identifiers, codes, numbers with a check
digit."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import numpy as np
import pyarrow as pa
import pyarrow.compute as pc

from gravel.language.functions.buffers import by_value, valid
from gravel.language.functions.catalogue import function
from gravel.language.functions.json_texts import read_json
from gravel.language.functions.row_by_row import RowFailure, by_row, constant
from gravel.words import words

_ATOM = r"[A-Za-z0-9!#$%&'*+/=?^_`{|}~-]+"
_LABEL = r"[A-Za-z0-9](?:[A-Za-z0-9-]{0,61}[A-Za-z0-9])?"
_BYTE = r"(?:25[0-5]|2[0-4][0-9]|1[0-9][0-9]|[1-9]?[0-9])"
# RFC 5322 addr-spec as a dot-atom with a host name of RFC 1123; RFC 3986 with an authority; RFC
# 9562; RFC 791.
_EMAIL = rf"^{_ATOM}(?:\.{_ATOM})*@{_LABEL}(?:\.{_LABEL})*\.[A-Za-z](?:[A-Za-z0-9-]*[A-Za-z0-9])?$"
_URL = (
    r"^[A-Za-z][A-Za-z0-9+.-]*://[A-Za-z0-9._~%!$&'()*+,;=:@\[\]-]+"
    r"(?:[/?#][A-Za-z0-9._~%!$&'()*+,;=:@/?#\[\]-]*)?$"
)
_UUID = r"^[0-9A-Fa-f]{8}(?:-[0-9A-Fa-f]{4}){3}-[0-9A-Fa-f]{12}$"
_IPV4 = rf"^{_BYTE}(?:\.{_BYTE}){{3}}$"

# ISO 3166-1 alpha-2.
COUNTRIES = words(
    "AD AE AF AG AI AL AM AO AQ AR AS AT AU AW AX AZ BA BB BD BE BF BG BH BI BJ BL BM BN BO BQ BR"
    " BS BT BV BW BY BZ CA CC CD CF CG CH CI CK CL CM CN CO CR CU CV CW CX CY CZ DE DJ DK DM DO DZ"
    " EC EE EG EH ER ES ET FI FJ FK FM FO FR GA GB GD GE GF GG GH GI GL GM GN GP GQ GR GS GT GU GW"
    " GY HK HM HN HR HT HU ID IE IL IM IN IO IQ IR IS IT JE JM JO JP KE KG KH KI KM KN KP KR KW KY"
    " KZ LA LB LC LI LK LR LS LT LU LV LY MA MC MD ME MF MG MH MK ML MM MN MO MP MQ MR MS MT MU MV"
    " MW MX MY MZ NA NC NE NF NG NI NL NO NP NR NU NZ OM PA PE PF PG PH PK PL PM PN PR PS PT PW PY"
    " QA RE RO RS RU RW SA SB SC SD SE SG SH SI SJ SK SL SM SN SO SR SS ST SV SX SY SZ TC TD TF TG"
    " TH TJ TK TL TM TN TO TR TT TV TW TZ UA UG UM US UY UZ VA VC VE VG VI VN VU WF WS YE YT ZA"
    " ZM ZW"
)
# ISO 4217, the active codes and those for metals, funds and tests.
CURRENCIES = words(
    "AED AFN ALL AMD AOA ARS AUD AWG AZN BAM BBD BDT BHD BIF BMD BND BOB BOV BRL BSD BTN BWP BYN"
    " BZD CAD CDF CHE CHF CHW CLF CLP CNY COP COU CRC CUP CVE CZK DJF DKK DOP DZD EGP ERN ETB EUR"
    " FJD FKP GBP GEL GHS GIP GMD GNF GTQ GYD HKD HNL HTG HUF IDR ILS INR IQD IRR ISK JMD JOD JPY"
    " KES KGS KHR KMF KPW KRW KWD KYD KZT LAK LBP LKR LRD LSL LYD MAD MDL MGA MKD MMK MNT MOP MRU"
    " MUR MVR MWK MXN MXV MYR MZN NAD NGN NIO NOK NPR NZD OMR PAB PEN PGK PHP PKR PLN PYG QAR RON"
    " RSD RUB RWF SAR SBD SCR SDG SEK SGD SHP SLE SOS SRD SSP STN SVC SYP SZL THB TJS TMT TND TOP"
    " TRY TTD TWD TZS UAH UGX USD USN UYI UYU UYW UZS VED VES VND VUV WST XAD XAF XAG XAU XBA XBB"
    " XBC XBD XCD XCG XDR XOF XPD XPF XPT XSU XTS XUA XXX YER ZAR ZMW ZWG"
)


def _ipv6(text: str) -> bool:
    import ipaddress

    try:
        ipaddress.IPv6Address(text)
    except ValueError:
        return False
    return "%" not in text


def _iban(text: str) -> bool:
    """ISO 13616: two letters, two check digits, 11 to 30 letters and digits; the number that ISO
    7064 makes of it is 1 mod 97."""
    plain = text.replace(" ", "")
    if not (
        15 <= len(plain) <= 34 and plain.isascii() and plain.isalnum() and plain.upper() == plain
    ):
        return False
    if not (plain[:2].isalpha() and plain[2:4].isdigit()):
        return False
    return int("".join(str(int(char, 36)) for char in plain[4:] + plain[:4])) % 97 == 1


def _isbn(text: str) -> bool:
    """ISO 2108: ten characters with weights 10 to 1 modulo 11, or thirteen digits from 978 or 979
    with weights 1 and 3 modulo 10."""
    plain = text.replace("-", "").replace(" ", "")
    if not plain.isascii():
        return False
    if len(plain) == 10 and plain[:9].isdigit() and (plain[9].isdigit() or plain[9] == "X"):
        return (
            sum(
                (10 - index) * (10 if char == "X" else int(char))
                for index, char in enumerate(plain)
            )
            % 11
            == 0
        )
    return len(plain) == 13 and plain[:3] in ("978", "979") and _gtin(plain)


def _gtin(text: str) -> bool:
    """GS1 General Specifications, 7.9: 8, 12, 13 or 14 digits with weights 1 and 3 from the right
    modulo 10, such as EAN and UPC."""
    plain = text.replace(" ", "")
    if len(plain) not in (8, 12, 13, 14) or not (plain.isascii() and plain.isdigit()):
        return False
    weighed = (int(char) * (3 if index % 2 else 1) for index, char in enumerate(reversed(plain)))
    return sum(weighed) % 10 == 0


def _luhn(text: str) -> bool:
    """ISO/IEC 7812-1, annex B: 12 to 19 digits, every second one from the right doubled, the
    digits' sum is 0 modulo 10."""
    plain = text.replace("-", "").replace(" ", "")
    if not (12 <= len(plain) <= 19 and plain.isascii() and plain.isdigit()):
        return False
    doubled = (
        sum(divmod(2 * int(char), 10)) if index % 2 else int(char)
        for index, char in enumerate(reversed(plain))
    )
    return sum(doubled) % 10 == 0


# How each form is told: a pattern of RE2, or a function of one text.
def _json(text: str) -> bool:
    """RFC 8259."""
    try:
        read_json(text)
    except ValueError:
        return False
    return True


FORMS: dict[str, str | Callable[[str], bool]] = {
    "E-MAIL": _EMAIL, "URL": _URL, "UUID": _UUID, "IPV4": _IPV4, "IPV6": _ipv6,
    "COUNTRY": COUNTRIES.__contains__,
    "CURRENCY": CURRENCIES.__contains__, "IBAN": _iban, "ISBN": _isbn, "GTIN": _gtin,
    "LUHN": _luhn, "JSON": _json,
}  # fmt: skip


def has_form(array: pa.Array, form: str) -> pa.Array:
    """A BOOLEAN array: which texts have a form of FORMS; plain spaces around them are ignored."""
    test = FORMS[form]
    trimmed = pc.utf8_trim(array, " ")
    if isinstance(test, str):
        result = pc.match_substring_regex(trimmed, test)
        if form == "E-MAIL":
            # RFC 5321: at most 64 octets before the @, 254 in all.
            result = pc.and_(
                result,
                pc.and_(
                    pc.less_equal(pc.binary_length(trimmed), 254),
                    pc.less_equal(pc.find_substring(trimmed, "@"), 64),
                ),
            )
        return result
    return by_value(trimmed, test, pa.bool_())


def _unknown(form: str) -> str | None:
    return None if form.upper() in FORMS else f"{form!r} is not a known form: {', '.join(FORMS)}"


def _check(values: list[Any]) -> str | None:
    return _unknown(values[1]) if isinstance(values[1], str) else None


@function(
    "HAS_FORM(x TEXT, form TEXT) BOOLEAN",
    meaning=(
        "whether x has a well-known form: E-MAIL, URL, UUID, IPV4, IPV6, COUNTRY (ISO 3166-1"
        " alpha-2), CURRENCY (ISO 4217), JSON (RFC 8259), or a right check digit: IBAN, ISBN,"
        " GTIN (EAN, UPC), LUHN;"
        " plain spaces around x are ignored"
    ),
    examples={
        "HAS_FORM('ysolde@harbour.example', 'E-MAIL')": "TRUE",
        "HAS_FORM('ysolde@harbour', 'E-MAIL')": "FALSE",
        "HAS_FORM('4000 0000 0000 0002', 'LUHN')": "TRUE",
        "HAS_FORM('978-3-16-148410-0', 'ISBN')": "TRUE",
        "HAS_FORM('4006381333931', 'GTIN')": "TRUE",
        "HAS_FORM('256.1.1.1', 'IPV4')": "FALSE",
        "HAS_FORM('', 'COUNTRY')": "FALSE",
        """HAS_FORM('{"boat": "Tern",}', 'JSON')""": "FALSE",
    },
    errors=("22023",),
    check=_check,
)
def has_form_of(x: pa.Array, form: pa.Scalar) -> pa.Array:
    if (
        constant(form)
        and form.as_py() is not None
        and _unknown(form.as_py()) is None
        and isinstance(x, pa.Array)
    ):
        return has_form(x, form.as_py().upper())
    return by_row(_has_form, x, form, to=pa.bool_())


def _has_form(text: str, form: str) -> bool:
    if _unknown(form):
        raise RowFailure("22023")
    return bool(has_form(pa.array([text], pa.string()), form.upper())[0].as_py())


def rows_of(array: pa.Array, form: str) -> np.ndarray:
    """Mask of the texts that have a form; NULL has none."""
    result: np.ndarray = pc.fill_null(has_form(array, form), False).to_numpy(
        zero_copy_only=False
    ) & valid(array)
    return result
