"""The AsyncAPI 3 document of the WebSocket and of the streams of events, made from the models that check the frames."""

from __future__ import annotations

from functools import cache
from typing import Any

from pydantic import BaseModel
from pydantic.json_schema import models_json_schema

from nestrel import __version__
from nestrel.core import objects
from nestrel.service import frame_models as models

_CLIENT: dict[str, tuple[type[BaseModel], str]] = {
    "sign_in": (
        models.SignInFrame,
        "Say who you are; the first frame, or again before the token runs out. The first may ask for all conversations "
        "of yours as well: `follow_all` is true, `cursor` an all cursor.",
    ),
    "follow": (models.FollowFrame, "Receive a conversation's change sets, from a cursor or from now on."),
    "follow_all": (
        models.FollowAllFrame,
        "Follow all conversations of yours, also those you join later; with `scope` all, as a trusted backend, every "
        "conversation of the store, or every one of a `kind`.",
    ),
    "unfollow": (models.UnfollowFrame, "Receive no more of a conversation."),
    "signal": (models.SignalFrame, "Tell those who follow a conversation that you are writing; kept nowhere."),
    "looking": (models.LookingFrame, "Say what you are looking at: of that you get no notice, for 60 s."),
    "ping": (models.PingFrame, "Ask whether anyone is there; the answer is `done`."),
    "post": (models.PostFrame, "Post a message."),
    "edit": (models.EditFrame, "Give a message of yours a new body; with `rev`, only if it has not changed since."),
    "remove": (models.RemoveFrame, "Take a message away; a tombstone stays."),
    "react": (models.ReactFrame, "Set your reaction on a message."),
    "unreact": (models.UnreactFrame, "Take your reaction back."),
    "read": (models.ReadFrame, "Move your receipt; it only grows."),
}

_TEXT = {"type": "string"}
_REF = {"type": ["string", "integer"], "description": "The `ref` of the frame that is answered."}


_LIMITS = {
    "type": "object",
    "properties": {
        "frame_bytes": {"type": "integer", "description": "A larger frame ends the connection (1009)."},
        "body_characters": {"type": "integer", "description": "Unicode code points of a body."},
        "commands_in_flight": {
            "type": "integer",
            "description": "Commands that wait for answers; more wait unread.",
        },
        "follows": {"type": "integer", "description": "Conversations that one connection follows."},
    },
    "required": ["frame_bytes", "body_characters", "commands_in_flight", "follows"],
}


def _ref(name: str) -> dict[str, str]:
    return {"$ref": f"#/components/schemas/{name}"}


def _frame(kind: str, properties: dict[str, Any], required: list[str]) -> dict[str, Any]:
    return {
        "type": "object",
        "properties": {"type": {"const": kind}, **properties},
        "required": ["type", *required],
    }


def _server_frames() -> dict[str, tuple[dict[str, Any], str]]:
    cursor = {"type": "string", "maxLength": 400}
    return {
        "signed_in": (
            _frame(
                "signed_in",
                {"ref": _REF, "user_id": _TEXT, "expires_at": {**_TEXT, "format": "date-time"}, "limits": _LIMITS},
                ["user_id", "expires_at", "limits"],
            ),
            "You are signed in until the token runs out.",
        ),
        "done": (
            _frame(
                "done",
                {
                    "ref": _REF,
                    "message": _ref("Message"),
                    "conversation_id": _TEXT,
                    "cursor": cursor,
                    "read_seq": {"type": "integer"},
                    "unread": {"type": "integer"},
                    "reset": {
                        "type": "boolean",
                        "description": "After `follow_all`: the cursor was of a state that is not this store's; "
                        "everything begins anew.",
                    },
                    "rewound": {
                        "type": "boolean",
                        "description": "After `follow` and `follow_all`: the database was restored or failed over "
                        "since the cursor was made; fetch anew what was taken in behind it.",
                    },
                },
                [],
            ),
            "The command is carried out, and durable if it changed anything.",
        ),
        "refused": (
            _frame("refused", {"ref": _REF, "problem": _ref("ProblemDocument")}, ["problem"]),
            "The command is not carried out.",
        ),
        "changes": (
            {"allOf": [_frame("changes", {}, []), _ref("ChangeSet")]},
            "What changed in a conversation, as the present state of the rows.",
        ),
        "unfollowed": (
            _frame(
                "unfollowed",
                {"conversation_id": _TEXT, "reason": {"enum": ["left", "removed", "closed"]}},
                ["conversation_id", "reason"],
            ),
            "Membership has ended, or the conversation is closed.",
        ),
        "rewound": (
            _frame("rewound", {}, []),
            "The database was restored or failed over: what was sent before may be lost, and what is not is sent on.",
        ),
        "signal": (
            _frame(
                "signal",
                {"conversation_id": _TEXT, "user_id": _TEXT, "name": {"enum": ["writing"]}},
                ["conversation_id", "user_id", "name"],
            ),
            "Somebody else is writing in a conversation that you follow. It is kept nowhere, and may be lost.",
        ),
        "checkpoint": (
            _frame("checkpoint", {"cursor": cursor}, ["cursor"]),
            "After `follow_all`: everything up to this all cursor has been sent on this socket.",
        ),
    }


def _events() -> dict[str, tuple[dict[str, Any], str]]:
    """The data of the streams' events, by event."""
    ended, signal = _server_frames()["unfollowed"], _server_frames()["signal"]
    properties = {name: schema for name, schema in ended[0]["properties"].items() if name != "type"}
    said = {name: schema for name, schema in signal[0]["properties"].items() if name != "type"}
    return {
        "signal": ({"type": "object", "properties": said, "required": list(said)}, signal[1]),
        "changes": (_ref("ChangeSet"), "A change set; on the stream of one conversation its cursor is the `id`."),
        "unfollowed": ({"type": "object", "properties": properties, "required": list(properties)}, ended[1]),
        "reset": ({"type": "object"}, "The stream begins at nothing: what it does not bring again is not yours."),
        "rewound": (
            {"type": "object"},
            "The database was restored or failed over: what was sent before may be lost, and what is not is sent on.",
        ),
        "checkpoint": (
            {"type": "string", "maxLength": 400},
            "On the stream of all conversations: all up to this all cursor has been sent; it is the `id` too.",
        ),
    }


@cache
def document() -> dict[str, Any]:
    """The whole document; each server frame's schema is under `components.schemas` as `server_…`."""
    known: list[type[BaseModel]] = [model for model, _ in _CLIENT.values()]
    known += [objects.ChangeSet, objects.Message, objects.ProblemDocument]
    _, schema = models_json_schema(
        [(model, "validation") for model in known], ref_template="#/components/schemas/{model}"
    )
    schemas: dict[str, Any] = schema["$defs"]
    messages: dict[str, Any] = {}
    for name, (model, summary) in _CLIENT.items():
        frame = schemas[model.__name__]
        frame["properties"]["type"] = {"const": name}
        messages[name] = {"name": name, "summary": summary, "payload": _ref(model.__name__)}
    server = _server_frames()
    for name, (payload, summary) in server.items():
        schemas[f"server_{name}"] = payload
        messages[name] = {"name": name, "summary": summary, "payload": _ref(f"server_{name}")}
    events: dict[str, Any] = {}
    for name, (payload, summary) in _events().items():
        schemas[f"event_{name}"] = payload
        events[name] = {"name": name, "summary": summary, "payload": _ref(f"event_{name}")}
    channel = {"$ref": "#/channels/live"}
    streams = {"stream": "/v1/stream", "conversationStream": "/v1/conversations/{conversation_id}/stream"}
    return {
        "asyncapi": "3.0.0",
        "info": {"title": "Nestrel live", "version": __version__, "description": "JSON text frames, one object each."},
        "defaultContentType": "application/json",
        "channels": {
            "live": {"address": "/v1/live", "messages": messages},
            **{
                name: {
                    "address": address,
                    "description": "Server-sent events over HTTP; `cursor` or `Last-Event-ID` resumes.",
                    "messages": events,
                    **({"parameters": {"conversation_id": {}}} if "{" in address else {}),
                }
                for name, address in streams.items()
            },
        },
        "operations": {
            "toService": {
                "action": "receive",
                "channel": channel,
                "messages": [{"$ref": f"#/channels/live/messages/{name}"} for name in _CLIENT],
            },
            "toClient": {
                "action": "send",
                "channel": channel,
                "messages": [{"$ref": f"#/channels/live/messages/{name}"} for name in server],
            },
            **{f"{name}ToClient": {"action": "send", "channel": {"$ref": f"#/channels/{name}"}} for name in streams},
        },
        "components": {"schemas": schemas},
    }
