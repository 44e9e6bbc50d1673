"""Poses as keyframes: few of them within a bound, at another frame rate, moved in time and space."""
