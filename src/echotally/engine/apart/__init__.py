"""A month played part by part: what shares no source, function, node or reserved instance needs not be played jointly.

Why it exists: a world of a thousand functions is slow, since every event touches memory that no other has touched lately;
a thousand small worlds are as fast as one, and each core plays some. The answer is the joint one to the byte:

- ``splitting`` finds the parts and makes each a small model;
- ``playing`` plays them side by side, a stretch of the month at a time;
- ``spread`` has them played and merged by other machines;
- ``remembering`` keeps what they came to, for the other months of a study;
- ``merging`` puts their levels together, and sees whether what they do share (an account's limit, its start tokens) ever
  mattered: then, and only then, the month has to be played jointly;
- ``buckets`` follows the start tokens that parts share, and says whether there would be enough for some more starts;
- ``joining`` lays the measurements of the parts out as if they came from one world.
"""

from echotally.engine.apart.buckets import Bucket, Followed
from echotally.engine.apart.month import simulate_month
from echotally.engine.apart.remembering import Memory
from echotally.engine.apart.splitting import SHARE_ROOM, Part, Together, parts_of

__all__ = ["SHARE_ROOM", "Bucket", "Followed", "Memory", "Part", "Together", "parts_of", "simulate_month"]
