"""The recording on disk: a folder of sealed Arrow segments, a journal of the newest rows, one manifest.

    NAME.keel/
      recording.json         the manifest: schema version, buses, segments, marks, dictionary, notes
      segments/000001.arrow  sealed rows, clustered by bus and identifier, with the order of arrival
      journal/000002.rows    checksummed blocks of the newest rows; becomes segment 2 when it is full
      status.json            what the recorder says of itself, rewritten several times a second
      control.jsonl          what people ask of the recorder's source, one line each

A writer only adds; readers never lock. Whoever edits the manifest holds a file lock meanwhile.
"""
