"""Static files under names that change with their content, scripts' imports included."""

from whitenoise.storage import CompressedManifestStaticFilesStorage


class ModulesStorage(CompressedManifestStaticFilesStorage):  # type: ignore[misc]
    """Compressed files with hashed names; modules import each other by these."""

    support_js_module_import_aggregation = True
