"""The verdict: which checks a design needs, what they say together, and what a verification keeps."""
