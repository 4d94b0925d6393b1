"""What every view uses: terminal, charts, frames, files written whole."""
