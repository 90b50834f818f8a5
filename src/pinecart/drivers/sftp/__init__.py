"""Files of another machine by SFTP version 3 (draft-ietf-secsh-filexfer-02) over SSH."""
