"""What is kept and what goes: rules, floors, the sweep, the archive, export, erasing."""
