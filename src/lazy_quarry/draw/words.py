"""Names of things as they stand in a drawing."""


def policy_words(policy: str) -> str:
    """What a policy does, in a few words."""
    told = {
        "planned": "planned (all hold places)",
        "easy": "easy (the first holds a place)",
        "first-come": "first-come (strict order)",
    }
    return told[policy]
