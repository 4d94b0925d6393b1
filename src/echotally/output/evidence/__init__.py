"""What measured data says, as tables and charts."""
