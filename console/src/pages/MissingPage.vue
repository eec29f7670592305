<template>
  <div class="sheet pad">
    <h1>There is no such page</h1>
    <p class="soft">Go to <RouterLink to="/servers">Servers</RouterLink>, or use the list on the left.</p>
  </div>
</template>
