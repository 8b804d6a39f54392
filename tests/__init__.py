"""The tests, laid out as the rooms of src/keen_trellis are."""

import os
import tempfile

# Before anything is imported: no display is needed, and nothing of the user's own is read or written.
os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
_home = tempfile.TemporaryDirectory(prefix="keen-trellis-tests-")
for _name in ("XDG_CONFIG_HOME", "XDG_DATA_HOME", "XDG_CACHE_HOME", "XDG_STATE_HOME"):
    os.environ[_name] = _home.name
# Where processes that run tests side by side share the demo, and what was read from it.
SHARED = "KEEN_TRELLIS_TESTS_SHARE"
if SHARED in os.environ:
    os.environ["XDG_CACHE_HOME"] = os.environ[SHARED]
os.environ["PYTHON_KEYRING_BACKEND"] = "keyring.backends.null.Keyring"
