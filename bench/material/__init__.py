"""Music that people made, with an arrangement or a ducking that is known to the sample: what the survey is judged on beside our own
generator. `./run material --real DIR` makes it once, outside the repository.
"""
