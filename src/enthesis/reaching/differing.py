def newly_allowed(estate, remedy, question):
    return []
