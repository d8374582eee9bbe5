"""Workers: what lies in a person's folders is looked at and removed with that person's rights only.

The agent of a Linux machine runs as root. Before it reads its key it starts a small process, the
fork server, which holds no secret. For each piece of work the fork server forks a worker, which
takes the person's user and group for good and is never exec'ed again (that would let the person
attach to it). What a worker says is a claim: counts and shown names of that person, never a path,
mount or handle for an action of root. The worst that a person can do with their worker is to delete
files of their own.
"""
