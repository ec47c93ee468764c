-- Events of the kind message are called notification.
UPDATE event SET kind = 'notification' WHERE kind = 'message';
