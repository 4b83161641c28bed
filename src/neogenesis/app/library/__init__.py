"""The library of system images and driver packages in the window."""
