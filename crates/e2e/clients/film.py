"""Makes a film of half a minute: film.py FILE"""

import sys

import av

film = av.open(sys.argv[1], "w")
stream = film.add_stream("libvpx", rate=10)
stream.width, stream.height, stream.pix_fmt = 160, 96, "yuv420p"
stream.codec_context.gop_size = 20
for n in range(300):
    frame = av.VideoFrame(160, 96, "yuv420p")
    light, *colours = frame.planes
    light.update(bytes((n * 3 + x // 640) % 256 for x in range(light.buffer_size)))
    for colour in colours:
        colour.update(bytes([128]) * colour.buffer_size)
    frame.pts = n
    for packet in stream.encode(frame):
        film.mux(packet)
for packet in stream.encode():
    film.mux(packet)
film.close()
