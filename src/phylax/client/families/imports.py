"""Lists of clients and machines that were kept elsewhere."""

from __future__ import annotations

from phylax.client.families.family import Family
from phylax.core.clients.importing.request import (
    ImportCommit,
    ImportDone,
    ImportPreview,
    ImportRequest,
)


class Imports(Family):
    """Lists of clients and machines, taken in all at once or not at all.

    Example::

        preview = shop.imports.preview(ImportAsk(content=content))
    """

    def preview(self, asked: ImportRequest) -> ImportPreview:
        """What would become of each line of a CSV; nothing is written."""
        return self._http.post(ImportPreview, "/imports/preview", asked)

    def take_in(self, asked: ImportRequest, preview: ImportPreview) -> ImportDone:
        """As a preview said; RefusedError where something changed since."""
        fields = asked.model_dump(mode="json") | {"preview": preview.preview}
        return self._http.post(ImportDone, "/imports", ImportCommit.model_validate(fields))
