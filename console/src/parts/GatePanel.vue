<template>
  <div class="gate">
    <div class="panel sheet">
      <div class="name"><img src="/mark.svg" alt="" width="34" height="34" /> Bouncer</div>
      <slot />
    </div>
  </div>
</template>

<style scoped>
.gate {
  min-height: 100vh;
  display: grid;
  place-items: center;
  background: linear-gradient(160deg, var(--rail) 0 34%, var(--paper) 34.1%);
}
.panel {
  width: 360px;
  padding: 26px 28px 18px;
}
.name {
  display: flex;
  align-items: center;
  gap: 12px;
  font-size: 22px;
  font-weight: 600;
}
.panel :deep(.wide) {
  width: 100%;
}
</style>
