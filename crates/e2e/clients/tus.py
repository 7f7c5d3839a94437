"""Sends a file with tuspy, going on after every break. Arguments: address, token, folder, file."""
import sys
import time

from tusclient import client

address, token, folder, path = sys.argv[1:]
tus = client.TusClient(address, headers={"Authorization": "Bearer " + token})
uploader = None
for _ in range(60):
    try:
        if uploader is None:
            uploader = tus.uploader(
                path, chunk_size=4_000_000, metadata={"parent": folder, "filename": "scan.tif"}
            )
        else:
            uploader.offset = uploader.get_offset()
        uploader.upload()
        break
    except Exception as error:
        print("broken off:", repr(error)[:200], file=sys.stderr)
        time.sleep(0.5)
else:
    sys.exit("given up")
print(uploader.offset)
