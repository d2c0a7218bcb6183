"""The web server: jobs, their recipes and results, tasks, and the API the screens use."""
