"""What people and programs read: JSON, tables, files. Everything here renders; nothing here computes."""
