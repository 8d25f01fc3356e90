"""What the names in requests and answers of Outlook mean; see `glossary`."""

_COUNT = "[0, …]"
OUTLOOKS: dict[str, str] = {
    "held": "By level, how often ranges made of earlier errors held later values.",
    "held_of": f"Of how many values. {_COUNT}",
    "how": "What ranges are made of: walk-forward, rehearsals, theory.",
    "OutlookView.notes": "What is to be known of it.",
    "truth": "What came, as far as it is in the data.",
    "ranges": "errors: of what was off out of sample; adaptive: so that they hold lately; theory: as stated.",
    "NewOutlook.ceiling": "The quantity is never above.",
    "NewOutlook.whole": "The quantity comes in whole numbers.",
    "TotalsView.whole": "Whether the two are all that the span has.",
    "paths": "Joint futures: how many, or their values.",
    "OutlookView.paths": f"How many were drawn; 0: it was made before they were kept. {_COUNT}",
    "joint": "Whether errors of several series go together as they did.",
    "above": "A level, in original units.",
    "below": "A level, in original units.",
    "ChanceView.run": "That so many steps in a row have been by then.",
    "each": "At each step.",
    "ever": "At each step or before.",
    "peak": "That each step is the highest of all.",
    "TotalsQuery.by": "A step such as “1 day”; null: all steps at once.",
    "groups": "Keys of series that are summed, by name.",
    "TotalsView.starts": "When each span begins, epoch seconds.",
    "TotalsView.known": "Points that had come, by group and span.",
    "forecast": "Points of each span that are forecast.",
    "paragraph": "All steps in words.",
}
