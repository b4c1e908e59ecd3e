"""Pictures of bodies as they lie, drawn without a screen."""
