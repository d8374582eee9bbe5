"""What service and agent say to each other: enrolment, orders, progress and messages."""

from phylax.core.protocol.enrolment import Enrolled, Enrolment
from phylax.core.protocol.messages import (
    Asleep,
    Awake,
    CategoryOutcome,
    HeldMessage,
    LeftItem,
    ListingMessage,
    Message,
    ReadingsMessage,
    ResultMessage,
    SetBackMessage,
    SettingsMessage,
    SurveyMessage,
    SurveyPartMessage,
    UnheldMessage,
)
from phylax.core.protocol.orders import (
    LEASE_SECONDS,
    AgreedListing,
    CategoryRule,
    CleanOrder,
    HeldOrder,
    Order,
    SurveyOrder,
)
from phylax.core.protocol.progress import GoOn, LeasedProgress, Progress, Step

__all__ = [
    "LEASE_SECONDS",
    "AgreedListing",
    "Asleep",
    "Awake",
    "CategoryOutcome",
    "CategoryRule",
    "CleanOrder",
    "Enrolled",
    "Enrolment",
    "GoOn",
    "HeldMessage",
    "HeldOrder",
    "LeasedProgress",
    "LeftItem",
    "ListingMessage",
    "Message",
    "Order",
    "Progress",
    "ReadingsMessage",
    "ResultMessage",
    "SetBackMessage",
    "SettingsMessage",
    "Step",
    "SurveyMessage",
    "SurveyOrder",
    "SurveyPartMessage",
    "UnheldMessage",
]
