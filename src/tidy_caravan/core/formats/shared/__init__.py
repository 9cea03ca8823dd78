"""What formats share: bundles, images, the travel list, what was written, what a receiver builds."""
