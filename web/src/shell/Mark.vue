<template>
  <svg viewBox="0 0 24 24" class="h-6 w-6" aria-hidden="true">
    <path d="M4 3h16l-3 18H7z" fill="none" stroke="var(--color-ink)" stroke-width="1.8" />
    <path d="M12 3v9" stroke="var(--color-saffron)" stroke-width="2.6" />
  </svg>
</template>
