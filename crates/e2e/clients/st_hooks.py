"""What schemathesis is told of the kinds of bodies that it does not know."""

import schemathesis


@schemathesis.serializer("application/offset+octet-stream", "application/x-tar")
def as_bytes(ctx, value):
    if isinstance(value, (bytes, bytearray)):
        return bytes(value)
    return str(value).encode()
