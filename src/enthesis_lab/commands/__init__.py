"""The commands of the lab, and the worked example: they register with the tool and use what it has."""
