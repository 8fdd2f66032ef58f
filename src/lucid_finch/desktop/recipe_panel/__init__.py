"""Recipe cards and the settings of the selected one."""
