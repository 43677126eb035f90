"""What devices do with packets.

In come devices of the model; out come forwarding tables, the path of one packet (`walking`), what becomes of whole
sets of packets (`set_pipeline`), and where two devices differ (`proving`).
"""
