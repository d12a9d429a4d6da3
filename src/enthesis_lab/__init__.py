"""The lab: small stand-ins for clouds and a pipeline service, speaking public protocols on loopback.

It imports nothing of the tool: its enforcement is the second opinion about what a verdict should be.
"""
