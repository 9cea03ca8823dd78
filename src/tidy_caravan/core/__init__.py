"""The job itself: scene model, formats, survey, steps, packing, arrival. No web, no database."""
