"""Every limit of the service in one place. Characters are Unicode code points."""

BODY_CHARS = 8_000
LEFT_MENTIONS = 1_000
"""Entries of `mentions` that an application may leave in a transaction, doubled ones among them."""
LEFT_ATTRIBUTES_BYTES = 65_536
"""Attributes that it may leave, with all their white space."""
MARKDOWN_DEPTH = 40
"""How deep lists and quotations may be nested: parsers and pages recurse."""
MARKDOWN_WEIGHT = 2_000
"""Lines, marks and cells of tables of one body: what it takes to show grows with their square (decisions/043)."""
ATTRIBUTES_BYTES = 4_096
ATTRIBUTES_DEPTH = 32
NAME_CHARS = 80
TITLE_CHARS = 200
USER_ID_CHARS = 128
"""Counted in UTF-16 code units, so that an id always fits a page cursor of at most 400 characters."""
KEY_CHARS = 128
MADE_KEY_HOURS = 24
"""For so long a key stands for the conversation that was made with it."""
PICTURE_CHARS = 2_000
DISPLAY_NAME_CHARS = 128

SEARCH_CHARS = 200
"""Characters of what is looked for."""
NAMES_PROBED = 5_000
"""Names that one page of the directory looks at to find those whom the caller may see; it may then be short."""

PAGE_DEFAULT = 50
PAGE_MOST = 200
CHANGES_DEFAULT = 200
CHANGES_MOST = 500
BATCH_POSTS = 500
NEW_MEMBERS = 1_000
RESYNC_CURSORS = 1_000
RESYNC_ROWS = 2_000
"""Rows of messages and members in one answer of a resync, about."""
RESYNC_BYTES = 1024 * 1024
"""Bytes of one answer of a resync, about."""
WAIT_SECONDS = 30

SEQ_MOST = 2**53 - 1
CURSOR_CHARS = 400

REQUEST_BYTES = 64 * 1024
MESSAGE_REQUEST_BYTES = 256 * 1024
"""One message: 8,000 characters and 4 KB of attributes, however they are escaped."""
LIST_REQUEST_BYTES = 2 * 1024 * 1024
"""A list of 1,000 members or cursors."""
BATCH_REQUEST_BYTES = 32 * 1024 * 1024
JSON_NODES = 1_500_000
"""Values of one JSON body: as many as 500 posts with attributes can have, and far fewer than 32 MB could hold."""

HEADER_BYTES = 32 * 1024
HEADERS = 100
HEAD_SECONDS = 10
"""In which the headers of a request have to come."""
IDLE_SECONDS = 15
"""How long a connection is kept between two requests. Longer than usual clients keep theirs (5 s): a client that ends
it loses nothing, but a request that is on its way when the service ends it has no answer."""
BODY_PAUSE_SECONDS = 10
BODY_SECONDS = 120
"""How long a body may pause, and take in all."""

FRAME_BYTES = 256 * 1024

SIGN_IN_SECONDS = 10
COMMANDS_IN_FLIGHT = 64
"""Commands of one socket that may wait for their answer; more are read only as answers go out."""
FOLLOWS_PER_SOCKET = 2_000
REFUSALS_PER_MINUTE = 100

SIGNALS = 50
"""Signals that wait for one connection; what more comes is dropped."""

CHANGE_SET_BYTES = 256 * 1024
"""What one change set is on the wire at most; a larger one goes on with `more`."""

WEBHOOKS = 50
WEBHOOK_DELIVERIES = 100
"""Of so many requests of a webhook it is kept what came of them."""
WEBHOOK_BYTES = 256 * 1024
WEBHOOK_ITEM_BYTES = WEBHOOK_BYTES - 4 * 1024
"""A change set in a request, which has more around it."""
LINE_ROWS = 200
"""Rows of one reading for a backend that follows every conversation, about."""
WEBHOOK_ROWS = 800
"""What one reading for a webhook brings at most, about."""

PUSH_WAITING = 200
"""Notices that wait for the devices of one person; of more the newest do."""
PUSH_SUBSCRIPTIONS = 20
"""Devices of one person; with one more the oldest goes."""
NOTICES_AT_ONCE = 500
"""Notices that are decided on at one time, about."""
NOTICES_WAITING = 10_000
"""Conversations of which a process keeps in mind that there may be something to be told of."""

RECENT_MOVES = 50_000
"""Conversations of which a process keeps in mind when they moved last; about 350 bytes each."""
LISTED = 50_000
"""Conversations that all the lists hold together that a process keeps in mind; about 300 bytes each."""
MOVES_PROBED = 250
"""Conversations that moved lately and are looked at one by one, for one member; more than that, and a walk over the
member's own is likely to be less."""
AUTHORS_REMEMBERED = 50_000
"""Authors of whom the write path remembers what it has just written; about 300 bytes each."""
RING_SETS = 256
RING_BYTES = 1024 * 1024
"""What the hub keeps of each followed conversation; who falls further behind is caught up from the store."""

GROUP_COMMANDS = 512
"""The most commands that one transaction of the group commit takes."""
AT_ONCE = 64
"""The most posts that are written by one statement and not by COPY; with more there is little in it."""
WRITES_WAITING = 10_000
"""The most commands that wait for a transaction in one process; above it one is refused with `slow-down`."""

EARLIER_KEPT = 100
EARLIER_BYTES = 256 * 1024
"""Earlier bodies of one message: the newest of them, so many and so large together."""
IMPORT_EARLIER = 10_000
"""Earlier bodies that one imported message may bring; the newest are kept."""
MENTIONS = 50
"""Users whom one message names."""
UNREAD_COUNTED = 10_000
"""What is unread in all is counted no further."""
MENTIONS_COUNTED = 1_000
"""So far unread mentions are counted."""
INVITATIONS = 1_000
"""Invitations of one conversation."""
INVITATION_SECONDS_MOST = 366 * 86_400
ATTACHMENTS = 10
"""Attachments of one message."""
FILE_NAME_CHARS = 255
UNUSED_ATTACHMENTS = 100
"""Attachments of one member that are in no message."""
UNUSED_HOURS = 24
"""How long they stay."""
UPLOADED_BYTES = 2_000_000_000
"""What one member uploads in a day."""
PICTURE_PIXELS = 50_000_000
LINK_SECONDS_MOST = 86_400
LINK_SECONDS = 3_600
UPLOAD_SECONDS = 1_800
"""How long the bytes of an attachment may take to come."""
TRANSFERS = 64
"""Attachments that come or go at one time in one process; each takes about 1 MB."""
UPLOADS_EACH = 8
"""Uploads of one member at one time in one process: who sends slowly holds up nobody else."""
DOWNLOADS_EACH = 16
"""Downloads of one member, or by one link, at one time in one process."""
PICTURES_WAITING = 32
"""Pictures that wait to be opened in one process."""
PICTURES_EACH = 8
"""Those of them of one member."""
PICTURE_SCANS = 100
"""Passes in which a picture may be drawn: a JPEG of thousands is of no use but to keep a reader busy."""
PICTURE_SECONDS = 10
"""What opening one picture may take of a processor."""
SYMBOLS_MOST = 20
"""Different symbols on one message."""
REACTION_NAMES = 100
"""User ids shown with a symbol; the rest are listed by page."""

DURATION_CHARS = 80
"""Characters of an ISO 8601 duration."""
IMPORT_LINES = 5_000
IMPORT_BYTES = 32 * 1024 * 1024
"""What one call imports at most; a file goes in as many calls as it takes."""
IMPORT_MARKS = 100_000
"""Reactions that one imported message brings."""
EXPORTS = 2
"""Exports that run at one time in one process; each holds a database connection."""
KEPT_OUT = 10_000
"""People whom one conversation keeps out."""
BLOCKS = 10_000
"""People whom one member blocks."""
REASON_CHARS = 1_000
"""Characters of a reason that is given for an act."""
INTERVAL_SECONDS_MOST = 86_400
"""What writers wait between posts at most."""
REPORT_DAYS = 30
"""For so long what was reported stays readable to those who judge it."""
REFUSED_POST_DAYS = 30
"""For so long it is kept why a post that was left in the database was refused."""
REFUSED_ACT_DAYS = 7
"""The same of what was left there beside posts."""
REPORTS_OPEN = 10_000
"""Reports of one conversation that nobody has settled."""
REPORTS_A_DAY = 100
"""Reports that one member makes in a day."""
BARRED_CHANGES = 5_000
"""Suspensions and sign-outs that a process learns of at one time."""
MEMBERS_CARRIED = 1_000
"""With more members change sets carry the rows of owners and moderators alone."""
NAME_RESERVED_DAYS = 30
"""For so long a display name that was given up stays its last owner's, where names are one person's alone."""
