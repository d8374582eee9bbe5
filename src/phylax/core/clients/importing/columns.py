"""What the columns of a list hold, by their names."""

from __future__ import annotations

import re
from collections.abc import Sequence

from phylax.core.clients.importing.request import ListField, NamedColumn
from phylax.core.record.searching import spelled_out

_F = ListField
_NAMES: dict[ListField, str] = {
    _F.CLIENT: "client customer clientname customername company firm organisation organization "
               "kunde kundenname firma auftraggeber account accountname",
    _F.CLIENT_NUMBER: "clientnumber clientno clientid customernumber customerno customerid "
                      "kundennummer kundennr kdnr",
    _F.CONTACT: "contact contactperson contactname person ansprechpartner kontakt",
    _F.MAIL: "mail email mailaddress emailaddress contactemail contactmail",
    _F.PHONE: "phone telephone tel phonenumber telephonenumber mobile contactphone telefon "
              "telefonnummer handy rufnummer",
    _F.CONTACT_BY: "reachby bestreachedby bestreached preferredcontact erreichbarper",
    _F.HOURS: "hours openinghours besttime when erreichbar oeffnungszeiten",
    _F.AGREEMENTS: "agreements agreement agreed contract plan vertrag vereinbarung",
    _F.CLIENT_NOTE: "clientnote customernote kundennotiz",
    _F.NUMBER: "number no nr id machineid machinenumber assetnumber assetno assetid inventory "
               "inventorynumber inventarnummer geraetenummer lfdnr",
    _F.TAG: "tag machine machinename computer computername pc pcname host hostname device "
            "devicename asset assettag label rechner rechnername geraet",
    _F.SYSTEM: "system os operatingsystem platform betriebssystem",
    _F.SYSTEM_VERSION: "systemversion osversion version",
    _F.MAKE: "make maker manufacturer brand vendor hersteller marke",
    _F.MODEL: "model modelname modell type typ",
    _F.SERIAL: "serial serialnumber serialno sn servicetag seriennummer seriennr",
    _F.YEAR: "year bought purchased purchasedate boughton baujahr jahr kaufdatum",
    _F.MEMORY: "memory ram memorygb ramgb speicher arbeitsspeicher",
    _F.PROCESSOR: "processor cpu prozessor",
    _F.USED_FOR: "usedfor use purpose zweck verwendung",
    _F.USED_BY: "usedby user users benutzer nutzer",
    _F.LOCATION: "standsat location place room standort ort raum",
    _F.NOTE: "note notes remark remarks comment comments description notiz bemerkung",
}  # fmt: skip
_FIELDS = {name: field for field, names in _NAMES.items() for name in names.split()}


def guessed(heading: Sequence[str]) -> tuple[NamedColumn, ...]:
    """What each column seems to hold; of two that seem to hold the same, the first does."""
    taken: set[ListField] = set()
    columns = []
    for number, name in enumerate(heading, 1):
        field = _FIELDS.get(re.sub(r"[^a-z0-9]", "", spelled_out(name)))
        if field in taken:
            field = None
        elif field is not None:
            taken.add(field)
        columns.append(NamedColumn(column=number, field=field))
    if _F.CLIENT not in taken:
        columns = _with_name_as_client(heading, columns)
    return tuple(columns)


def _with_name_as_client(
    heading: Sequence[str], columns: Sequence[NamedColumn]
) -> list[NamedColumn]:
    """Where no other column is of clients, a plain *Name* is theirs."""
    return [
        NamedColumn(column=named.column, field=_F.CLIENT)
        if named.field is None and spelled_out(name).strip() == "name"
        else named
        for named, name in zip(columns, heading, strict=True)
    ]


def placed(heading: Sequence[str], said: Sequence[NamedColumn]) -> tuple[NamedColumn, ...]:
    """The columns as they were said to be, the others as they seem to be. ValueError."""
    field_of = {named.column: named.field for named in said}
    if odd := [number for number in field_of if number > len(heading)]:
        raise ValueError(f"the list has {len(heading)} columns, and no column {odd[0]}")
    fields = {field for field in field_of.values() if field is not None}
    return tuple(
        NamedColumn(column=named.column, field=field_of[named.column])
        if named.column in field_of
        else NamedColumn(column=named.column, field=None if named.field in fields else named.field)
        for named in guessed(heading)
    )
