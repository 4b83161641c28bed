"""The First boot stop: what will start, what would mend it, a trial, and what is looked at afterwards."""
