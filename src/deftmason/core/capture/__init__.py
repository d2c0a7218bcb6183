"""What is captured live: touches of a ball probe, points kept within boundaries and near planes, what is unseen."""
