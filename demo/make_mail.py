#!/usr/bin/env python3
"""Makes station-mail.mbox.zst, the mailbox of the demo, with Python's mailbox: two seasons of the ringing station's mail.
Three messages were deleted in the mail program and the mailbox was not compacted since.
"""
import mailbox
import pathlib
import struct
import subprocess
import tempfile
import zlib
from email.message import EmailMessage

HERE = pathlib.Path(__file__).parent
MAREN, ADA = 'Maren Holm <maren@skerry.example>', 'Ada Skua <ada@skerry.example>'
OFFICE, COAST = 'Ringing Office <office@rings.example>', 'Coast Authority <permits@coast.example>'


def nest_photo(seed, width=160, height=100):
    """A ledge at dusk."""
    rows = b''
    for y in range(height):
        rows += b'\0'
        for x in range(width):
            is_rock = y > height * 0.62 + 9 * ((x * (seed + 3)) % 37) / 37
            is_egg = (x - 60 - 9 * seed) ** 2 / 90 + (y - 58) ** 2 / 50 < 1
            rows += bytes((214, 205, 180) if is_egg else (64, 60, 58) if is_rock else (90 + y, 120 + y // 2, 170))
    chunk = lambda kind, data: struct.pack('>I', len(data)) + kind + data + struct.pack('>I', zlib.crc32(kind + data))
    return b'\x89PNG\r\n\x1a\n' + chunk(b'IHDR', struct.pack('>IIBBBBB', width, height, 8, 2, 0, 0, 0)) + \
        chunk(b'IDAT', zlib.compress(rows, 9)) + chunk(b'IEND', b'')


LETTERS = [
    (2, MAREN, OFFICE, 'Ring order', 'Please send 200 rings of size D and 50 of size K before the season.', None, False),
    (3, OFFICE, MAREN, 'Re: Ring order', 'They leave here on Thursday.\n\n> Please send 200 rings of size D', None, False),
    (9, COAST, MAREN, 'Permit for ledge 4', 'Your permit 2026-117 for ledge 4 is attached. It ends on 31 July.',
     ('permit 2026-117.txt', b'Permit 2026-117\nLedge 4, 1 May to 31 July 2026\nTwo ringers, no lamps.\n'), True),
    (17, ADA, MAREN, 'Nest camera, ledge 4', 'The first egg! Photo attached.\nFrom the hide it can not be seen.',
     ('ledge 4.png', nest_photo(1)), True),
    (18, MAREN, ADA, 'Re: Nest camera, ledge 4', 'Wonderful. Keep the photo for the report.', None, False),
    (24, ADA, MAREN, 'Ringing log of the week', 'As every week.',
     ('ringing log.csv', b'ring;species;ledge\nD4471;puffin;4\nD4472;puffin;4\nK0918;storm petrel;2\n'), True),
    (30, OFFICE, MAREN, 'Newsletter', 'What is new in ringing: nothing that could not wait.', None, False),
]


def message(day, sender, recipient, subject, text, attachment, is_deleted):
    mail = EmailMessage()
    mail['X-Mozilla-Status'] = '0009' if is_deleted else '0001'
    mail['From'], mail['To'], mail['Subject'] = sender, recipient, subject
    mail['Date'] = f'{day:02} Mar 2026 09:{day:02}:00 +0000'
    mail['Message-ID'] = f'<{day}.2026-03@skerry.example>'
    mail.set_content(text + '\n')
    if attachment and attachment[0].endswith('.png'):
        lines = ''.join(f'<p>{line}</p>' for line in text.split('\n'))
        mail.add_alternative(f'<html><body>{lines}<p><img src="cid:ledge4"></p></body></html>\n', subtype='html')
        mail.get_payload()[1].add_related(attachment[1], 'image', 'png', cid='<ledge4>', filename=attachment[0])
    elif attachment:
        name, content = attachment
        mail.add_attachment(content, maintype='text', subtype='plain', filename=name)
    return mail


with tempfile.TemporaryDirectory() as folder:
    place = pathlib.Path(folder) / 'station-mail.mbox'
    box = mailbox.mbox(place)
    for letter in LETTERS:
        one = mailbox.mboxMessage(message(*letter))
        one.set_from(letter[1].split('<')[1].rstrip('>'), (2026, 3, letter[0], 9, letter[0], 0, 0, 0, 0))
        box.add(one)
    box.flush()
    box.close()
    subprocess.run(['zstd', '-19', '-q', '-f', place, '-o', HERE / 'station-mail.mbox.zst'], check=True)
    (HERE / 'station-mail.mbox.zst').chmod(0o644)
