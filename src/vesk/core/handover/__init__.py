"""What is handed over: recipes, names, channels, the day as a timeline, edit lists."""
